import { type ComponentType, lazy, type LazyExoticComponent } from "react";

type Load = () => Promise<{ default: ComponentType }>;

/** A page of the console: where it is, and its code, which is fetched when it is first wanted. */
type Place = { path: string; load: Load; View: LazyExoticComponent<ComponentType> };

const place = (path: string, load: Load): Place => ({ path, load, View: lazy(load) });

/** The first page comes with the frame. */
export const places: Place[] = [
  place("datasets", () => import("./pages/DatasetsPage").then((m) => ({ default: m.DatasetsPage }))),
  place("datasets/:name", () => import("./pages/DatasetPage").then((m) => ({ default: m.DatasetPage }))),
  place("alerts", () => import("./pages/AlertsPage").then((m) => ({ default: m.AlertsPage }))),
  place("alerts/:id", () => import("./pages/AlertPage").then((m) => ({ default: m.AlertPage }))),
  place("labels", () => import("./pages/labels/LabelsPage").then((m) => ({ default: m.LabelsPage }))),
  place("monitors", () => import("./pages/MonitorsPage").then((m) => ({ default: m.MonitorsPage }))),
  place("monitors/:name", () =>
    import("./pages/monitor/MonitorPage").then((m) => ({ default: m.MonitorPage })),
  ),
  place("monitors/:name/past", () =>
    import("./pages/monitor/PastPage").then((m) => ({ default: m.PastPage })),
  ),
  place("charts", () => import("./pages/charts/ChartsPage").then((m) => ({ default: m.ChartsPage }))),
  place("series/:id", () => import("./pages/SeriesPage").then((m) => ({ default: m.SeriesPage }))),
  place("incidents", () => import("./pages/IncidentsPage").then((m) => ({ default: m.IncidentsPage }))),
  place("scorecard", () => import("./pages/ScorecardPage").then((m) => ({ default: m.ScorecardPage }))),
  place("trials/:id", () => import("./pages/TrialPage").then((m) => ({ default: m.TrialPage }))),
  place("groups/:id", () => import("./pages/GroupPage").then((m) => ({ default: m.GroupPage }))),
  place("tags", () => import("./pages/TagsPage").then((m) => ({ default: m.TagsPage }))),
  place("tags/:name", () => import("./pages/TagsPage").then((m) => ({ default: m.TagPage }))),
  place("outlook", () => import("./pages/OutlookPage").then((m) => ({ default: m.OutlookPage }))),
  place("logs", () => import("./pages/logs/LogsPage").then((m) => ({ default: m.LogsPage }))),
  place("logs/:name", () => import("./pages/logs/LogsPage").then((m) => ({ default: m.LogsPage }))),
  place("logs/:name/:number", () =>
    import("./pages/logs/SentencePage").then((m) => ({ default: m.SentencePage })),
  ),
  place("consistency", () => import("./pages/ConsistencyPage").then((m) => ({ default: m.ConsistencyPage }))),
  place("slas", () => import("./pages/SLAsPage").then((m) => ({ default: m.SLAsPage }))),
  place("drift", () => import("./pages/drift/DriftsPage").then((m) => ({ default: m.DriftsPage }))),
  place("drift/:name", () => import("./pages/drift/DriftPage").then((m) => ({ default: m.DriftPage }))),
  place("setup", () => import("./pages/setup/SetupPage").then((m) => ({ default: m.SetupPage }))),
  place("setup/calendars", () =>
    import("./pages/setup/CalendarsPage").then((m) => ({ default: m.CalendarsPage })),
  ),
  place("setup/telling", () => import("./pages/setup/TellingPage").then((m) => ({ default: m.TellingPage }))),
  place("setup/people", () => import("./pages/setup/PeoplePage").then((m) => ({ default: m.PeoplePage }))),
  place("you", () => import("./pages/YouPage").then((m) => ({ default: m.YouPage }))),
  place("setup/audit", () => import("./pages/setup/AuditPage").then((m) => ({ default: m.AuditPage }))),
  place("setup/mailbox", () => import("./pages/setup/MailboxPage").then((m) => ({ default: m.MailboxPage }))),
];

/** Fetches the code of the page behind an address, as when its link is pointed at. */
export function prefetch(address: string) {
  const first = address.split("/")[1];
  places
    .filter((p) => p.path.split("/")[0] === first && !p.path.includes(":"))
    .forEach((p) => void p.load().catch(() => undefined));
}
