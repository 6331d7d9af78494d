import { type ComponentType } from "react";
import { matchPath } from "react-router";
import { type Later, later } from "./parts/later";

/** A page of the console: where it is, and what draws it, whose code is fetched when it is wanted. */
type Place = { path: string; View: Later<object> };

const place = (path: string, load: () => Promise<ComponentType>): Place => ({
  path,
  View: later(load, <main className="px-6 pt-[9px] text-ink2" aria-busy="true" />),
});

/** The first page comes with the frame. */
export const places: Place[] = [
  place("datasets", () => import("./pages/DatasetsPage").then((m) => m.DatasetsPage)),
  place("datasets/:name", () => import("./pages/DatasetPage").then((m) => m.DatasetPage)),
  place("alerts", () => import("./pages/AlertsPage").then((m) => m.AlertsPage)),
  place("alerts/:id", () => import("./pages/AlertPage").then((m) => m.AlertPage)),
  place("labels", () => import("./pages/labels/LabelsPage").then((m) => m.LabelsPage)),
  place("monitors", () => import("./pages/MonitorsPage").then((m) => m.MonitorsPage)),
  place("monitors/:name", () => import("./pages/monitor/MonitorPage").then((m) => m.MonitorPage)),
  place("monitors/:name/past", () => import("./pages/monitor/PastPage").then((m) => m.PastPage)),
  place("charts", () => import("./pages/charts/ChartsPage").then((m) => m.ChartsPage)),
  place("series/:id", () => import("./pages/SeriesPage").then((m) => m.SeriesPage)),
  place("incidents", () => import("./pages/IncidentsPage").then((m) => m.IncidentsPage)),
  place("scorecard", () => import("./pages/ScorecardPage").then((m) => m.ScorecardPage)),
  place("trials/:id", () => import("./pages/TrialPage").then((m) => m.TrialPage)),
  place("groups/:id", () => import("./pages/GroupPage").then((m) => m.GroupPage)),
  place("tags", () => import("./pages/TagsPage").then((m) => m.TagsPage)),
  place("tags/:name", () => import("./pages/TagsPage").then((m) => m.TagPage)),
  place("outlook", () => import("./pages/OutlookPage").then((m) => m.OutlookPage)),
  place("logs", () => import("./pages/logs/LogsPage").then((m) => m.LogsPage)),
  place("logs/:name", () => import("./pages/logs/LogsPage").then((m) => m.LogsPage)),
  place("logs/:name/:number", () => import("./pages/logs/SentencePage").then((m) => m.SentencePage)),
  place("consistency", () => import("./pages/ConsistencyPage").then((m) => m.ConsistencyPage)),
  place("slas", () => import("./pages/SLAsPage").then((m) => m.SLAsPage)),
  place("drift", () => import("./pages/drift/DriftsPage").then((m) => m.DriftsPage)),
  place("drift/:name", () => import("./pages/drift/DriftPage").then((m) => m.DriftPage)),
  place("setup", () => import("./pages/setup/SetupPage").then((m) => m.SetupPage)),
  place("setup/calendars", () => import("./pages/setup/CalendarsPage").then((m) => m.CalendarsPage)),
  place("setup/telling", () => import("./pages/setup/TellingPage").then((m) => m.TellingPage)),
  place("setup/people", () => import("./pages/setup/PeoplePage").then((m) => m.PeoplePage)),
  place("you", () => import("./pages/YouPage").then((m) => m.YouPage)),
  place("setup/audit", () => import("./pages/setup/AuditPage").then((m) => m.AuditPage)),
  place("setup/mailbox", () => import("./pages/setup/MailboxPage").then((m) => m.MailboxPage)),
];

/** Fetches the code of the page at an address. */
export async function prefetch(address: string) {
  const [path] = address.split(/[?#]/);
  await places
    .find((p) => matchPath(p.path, path))
    ?.View.fetch()
    .catch(() => undefined);
}

/** Fetches the code of the page behind a link that is pointed at or has the focus. */
export function prefetchLinks({ target }: Event) {
  const link = target instanceof Element && target.closest("a[href^='/']");
  if (link) void prefetch(link.getAttribute("href")!);
}
