import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type S = components["schemas"];
export type Alert = S["Alert"];
export type AlertDetail = S["AlertDetail"];
export type Chart = S["Chart"];
export type Why = S["Why"];
export type Contribution = S["Contribution"];
export type Contributor = S["Contributor"];
export type Order = S["Order"];
export type Reconciliation = S["Reconciliation"];
export type Found = S["Match"];
export type Listing = S["Listing"];
export type Health = S["Health"];
export type Incident = S["Incident"];
export type PlannedEvent = S["PlannedEvent"];
export type Scorecard = S["Scorecard"];
export type Card = S["Card"];
export type Figure = S["Figure"];
export type Week = S["Week"];
export type DatasetPage = S["Page"];
export type Metric = S["Metric"];
export type Source = S["Source"];
export type Offered = S["Offered"];
export type NewMetric = S["NewMetric"];
export type MetricChange = S["MetricChange"];
export type FileSet = S["FileSet"];
export type Proposal = S["Proposal"];
export type Questions = S["Questions"];
export type SeriesState = S["SeriesState"];
export type Question = S["Question"];
export type PastQuestion = S["PastQuestion"];
export type FilterReport = S["FilterReport"];
export type MonitorVersion = S["MonitorVersion"];
export type Held = S["Held"];
export type Trial = S["Trial"];
export type BacktestAlert = S["BacktestAlert"];
export type Task = S["Task"];
export type Lineage = S["Lineage"];
export type Run = S["Run"];
export type Delivery = S["Delivery"];
export type ColumnVersion = S["ColumnVersion"];
export type Kinship = S["Kinship"];
export type Monitor = S["Monitor"];
export type Settings = S["Settings"];
export type Rehearsal = S["Rehearsal"];
export type Replay = S["Replay"];
export type Achieved = S["Achieved"];
export type Note = S["Note"];
export type NewNote = S["NewNote"];
export type Detectable = S["Detectable"];
export type Suitability = S["SuitabilityStudy"];
export type Smoothing = S["SmoothingStudy"];
export type Forecast = S["Forecast"];
export type Log = S["Log"];
export type Audit = S["Audit"];
export type Token = S["Token"];
export type Person = S["Person"];
export type Team = S["Team"];
export type Session = S["Session"];
export type Role = Team["role"];
export type Said = S["Said"];
export type Differs = S["Differs"];
export type Sentence = S["One"];
export type Tag = S["Tag"];
export type PartOf = S["PartOf"];
export type GoesWith = S["GoesWith"];
export type Correction = S["Correction"];
export type Sheet = S["Sheet"];
export type TrendStudy = S["TrendStudy"];
export type Explanation = S["Explanation"];
export type GroupRow = S["GroupRow"];
export type GroupDetail = S["GroupDetail"];
export type Channel = S["Channel"];
export type NewChannel = S["NewChannel"];
export type Route = S["Route"];
export type NewRoute = S["NewRoute"];
export type Message = S["Message"];
export type Letter = S["Letter"];
export type Promised = S["Promise"];
export type NewSLA = S["NewSLA"];
export type NewEvent = S["NewEvent"];
export type Suggestion = S["Suggestion"];
export type Comparison = S["Comparison"];
export type ComparisonSummary = S["Summary"];
export type NewComparison = S["NewComparison"];
export type Matrix = S["Matrix"];
export type MatrixRow = S["MatrixRow"];
export type MatrixCell = S["MatrixCell"];
export type Distributions = S["Distributions"];
export type DriftPeriod = S["DriftPeriod"];
export type PairResult = S["PairResult"];
export type ModelView = S["ModelView"];
export type Verdict = "fault" | "noise" | "planned";

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: (request) => globalThis.fetch(request),
});

/** What a refused request says, in one line. */
export class Refused extends Error {
  constructor(
    public status: number,
    detail: string,
    /** The field that is wrong, as the API calls it, where it is one. */
    public field?: string,
  ) {
    super(detail);
  }
}

type Problem = { detail?: string; errors?: { message?: string; location?: string }[] };

/** What a problem document says; one that only says that something is wrong, by its first error. */
function said(problem: Problem | undefined): string | undefined {
  const first = problem?.errors?.[0];
  return problem?.detail === "validation failed" && first
    ? `${(first.location ?? "").replace(/^body\./, "")}: ${first.message}`
    : (problem?.detail ?? first?.message);
}

/** Unwraps an answer, or throws what the problem document says. */
export async function answer<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) {
    const problem = error as Problem | undefined;
    throw new Refused(
      response.status,
      said(problem) ?? response.statusText,
      problem?.errors?.[0]?.location?.replace(/^body\./, ""),
    );
  }
  return data as T;
}
