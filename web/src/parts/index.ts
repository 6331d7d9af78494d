/** Something that words find, and where it is. */
export type Hit = { kind: string; name: string; says: string; to: string };

const pages = [
  ["Now", "what is open", "/"],
  ["Datasets", "health, loads, deviation", "/datasets"],
  ["Alerts", "open and past, search and label many", "/alerts"],
  ["Labels", "the alerts whose answer teaches most", "/labels"],
  ["Monitors", "settings, rehearse, tune", "/monitors"],
  ["Incidents", "the catalogue", "/incidents"],
  ["SLAs", "promises and how they were kept", "/slas"],
  ["Scorecard", "precision, recall, alert load, proposals", "/scorecard"],
  ["Drift", "features beside a reference", "/drift"],
  ["Logs", "sentences of logs", "/logs"],
  ["Outlook", "forecast: growth, when a limit is reached", "/outlook"],
  ["Charts", "series side by side, beside last week or siblings", "/charts"],
  ["Consistency", "weekdays beside what they had before", "/consistency"],
  ["Tags", "names for what one audience cares about", "/tags"],
  ["Sources", "warehouses, folders, metrics", "/setup"],
  ["Calendars", "planned events, holidays, maintenance", "/setup/calendars"],
  ["Telling", "channels, routes, messages", "/setup/telling"],
  ["People", "accounts, teams, tokens, roles", "/setup/people"],
  ["Audit", "who did what", "/setup/audit"],
  ["Mailbox", "letters of the demo", "/setup/mailbox"],
  ["Tour", "a way through the demo", "/?tour"],
  ["You", "password, sessions, tokens of your own", "/you"],
];

/** What can be done, and where it is begun. */
const commands = [
  ["Connect a warehouse", "add a source, try its address", "/setup"],
  ["Watch a folder", "add a source of files that land", "/setup"],
  ["Measure a table", "choose tables and metrics, backfill", "/setup"],
  ["Plan an event", "maintenance, a holiday; import iCalendar", "/setup/calendars"],
  ["Add a channel", "e-mail or webhook", "/setup/telling"],
  ["Add a route", "who is told of what, when, reminders", "/setup/telling"],
  ["Make a token", "for a person or a service", "/setup/people"],
  ["Add an account", "a person, with a role", "/setup/people"],
  ["Make a team", "a role for several people", "/setup/people"],
  ["Label the next alert", "fault, noise or planned, by key", "/labels"],
  ["Write an incident", "add to the catalogue, import CSV", "/incidents"],
  ["Promise an SLA", "rows, loads or files by a time", "/slas"],
  ["Search for better settings", "tune monitors by labels", "/scorecard"],
  ["Backtest", "replay all monitors over the past", "/scorecard"],
  ["Compare features", "add a comparison with a reference", "/drift"],
  ["Pin a series", "charts side by side", "/charts"],
  ["Change your password", "", "/you"],
  ["Sign out everywhere", "end all sessions", "/you"],
];

/** What can be set, and where. */
const settings = [
  ["Rarity", "of a monitor: how seldom it rings by chance, budget", "/monitors"],
  ["Direction", "of a monitor: rises, losses or both", "/monitors"],
  ["Smallest effect", "of a monitor: what is worth waking for", "/monitors"],
  ["Quiet hours", "of a monitor: when nobody is woken", "/monitors"],
  ["Method and bounds", "of a monitor: learned band, z, fences, fixed bounds", "/monitors"],
  ["Gaps and smoothing", "of a monitor: how missing periods are filled", "/monitors"],
  ["Silence", "of a monitor: when no rows are an alarm", "/monitors"],
  ["Reads back", "of a metric: how far corrections are looked for", "/setup"],
  ["Period and segments", "of a metric: hours, days, dimensions", "/setup"],
  ["Filter of false alarms", "off, shadow or active, and what it may lose", "/scorecard"],
  ["Nightly search", "for better settings", "/scorecard"],
  ["Hours and reminders", "of a route", "/setup/telling"],
  ["Sentences that are told", "of a log: severities, news, bursts", "/logs"],
  ["Roles and datasets", "of accounts and teams", "/setup/people"],
];

const listed = (kind: string, list: string[][]): Hit[] =>
  list.map(([name, says, to]) => ({ kind, name, says, to }));

/** What the console itself has to offer. */
const index = [...listed("page", pages), ...listed("do", commands), ...listed("setting", settings)];

/** What of the console has all words, those with them in their names first. */
export function ofConsole(words: string): Hit[] {
  const asked = words.toLowerCase().split(/\s+/).filter(Boolean);
  const named = (h: Hit) => asked.every((w) => h.name.toLowerCase().includes(w));
  return index
    .filter((h) => asked.every((w) => `${h.name} ${h.says}`.toLowerCase().includes(w)))
    .sort((a, b) => Number(named(b)) - Number(named(a)));
}
