import { Navigate, Route, Routes } from "react-router";
import { Refused } from "./api/client";
import { useMe } from "./api/queries";
import { AlertPage } from "./pages/AlertPage";
import { AlertsPage } from "./pages/AlertsPage";
import { ConsistencyPage } from "./pages/ConsistencyPage";
import { DatasetPage } from "./pages/DatasetPage";
import { DatasetsPage } from "./pages/DatasetsPage";
import { DriftPage } from "./pages/drift/DriftPage";
import { DriftsPage } from "./pages/drift/DriftsPage";
import { GroupPage } from "./pages/GroupPage";
import { IncidentsPage } from "./pages/IncidentsPage";
import { LabelsPage } from "./pages/labels/LabelsPage";
import { MonitorPage } from "./pages/monitor/MonitorPage";
import { PastPage } from "./pages/monitor/PastPage";
import { MonitorsPage } from "./pages/MonitorsPage";
import { NowPage } from "./pages/NowPage";
import { LogsPage } from "./pages/logs/LogsPage";
import { SentencePage } from "./pages/logs/SentencePage";
import { OutlookPage } from "./pages/OutlookPage";
import { ScorecardPage } from "./pages/ScorecardPage";
import { SeriesPage } from "./pages/SeriesPage";
import { CalendarsPage } from "./pages/setup/CalendarsPage";
import { MailboxPage } from "./pages/setup/MailboxPage";
import { SetupPage } from "./pages/setup/SetupPage";
import { TellingPage } from "./pages/setup/TellingPage";
import { SLAsPage } from "./pages/SLAsPage";
import { SignInPage } from "./pages/SignInPage";
import { TagPage, TagsPage } from "./pages/TagsPage";
import { TrialPage } from "./pages/TrialPage";
import { Masthead } from "./parts/Masthead";

/** Without a valid token there is only the door. */
function Inside() {
  const me = useMe();
  if (me.error instanceof Refused && me.error.status === 401) return <Navigate to="/sign-in" />;
  if (me.isPending) return null;
  return (
    <>
      <Masthead />
      <Routes>
        <Route index element={<NowPage />} />
        <Route path="datasets" element={<DatasetsPage />} />
        <Route path="datasets/:name" element={<DatasetPage />} />
        <Route path="alerts" element={<AlertsPage />} />
        <Route path="alerts/:id" element={<AlertPage />} />
        <Route path="labels" element={<LabelsPage />} />
        <Route path="monitors" element={<MonitorsPage />} />
        <Route path="monitors/:name" element={<MonitorPage />} />
        <Route path="monitors/:name/past" element={<PastPage />} />
        <Route path="series/:id" element={<SeriesPage />} />
        <Route path="incidents" element={<IncidentsPage />} />
        <Route path="scorecard" element={<ScorecardPage />} />
        <Route path="trials/:id" element={<TrialPage />} />
        <Route path="groups/:id" element={<GroupPage />} />
        <Route path="tags" element={<TagsPage />} />
        <Route path="tags/:name" element={<TagPage />} />
        <Route path="outlook" element={<OutlookPage />} />
        <Route path="logs" element={<LogsPage />} />
        <Route path="logs/:name" element={<LogsPage />} />
        <Route path="logs/:name/:number" element={<SentencePage />} />
        <Route path="consistency" element={<ConsistencyPage />} />
        <Route path="slas" element={<SLAsPage />} />
        <Route path="drift" element={<DriftsPage />} />
        <Route path="drift/:name" element={<DriftPage />} />
        <Route path="setup" element={<SetupPage />} />
        <Route path="setup/calendars" element={<CalendarsPage />} />
        <Route path="setup/telling" element={<TellingPage />} />
        <Route path="setup/mailbox" element={<MailboxPage />} />
        <Route path="*" element={<Navigate to="/" />} />
      </Routes>
    </>
  );
}

export function App() {
  return (
    <Routes>
      <Route path="/sign-in" element={<SignInPage />} />
      <Route path="*" element={<Inside />} />
    </Routes>
  );
}
