import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Order, type Settings, type Verdict } from "./client";

export const useMe = () => useQuery({ queryKey: ["me"], queryFn: () => answer(api.GET("/api/v1/me")), retry: false, refetchInterval: 60_000 });

export const useHealth = () => useQuery({ queryKey: ["datasets"], queryFn: () => answer(api.GET("/api/v1/datasets")), refetchInterval: 30_000 });

export const useDataset = (name: string) =>
  useQuery({ queryKey: ["datasets", name], queryFn: () => answer(api.GET("/api/v1/datasets/{name}", { params: { path: { name } } })) });

/** What hangs on a dataset beside its series. */
export const useLineage = (name: string) =>
  useQuery({ queryKey: ["lineage", name], queryFn: () => answer(api.GET("/api/v1/datasets/{name}/lineage", { params: { path: { name } } })) });

export const useRuns = (name: string) =>
  useQuery({ queryKey: ["runs", name], refetchInterval: 60_000, queryFn: () => answer(api.GET("/api/v1/datasets/{name}/runs", { params: { path: { name } } })) });

export const useColumns = (name: string) =>
  useQuery({ queryKey: ["columns", name], enabled: name !== "", queryFn: () => answer(api.GET("/api/v1/datasets/{name}/columns", { params: { path: { name } } })) });

export const useDeliveries = (name: string, enabled: boolean) =>
  useQuery({ queryKey: ["deliveries", name], enabled, refetchInterval: 60_000, queryFn: () => answer(api.GET("/api/v1/datasets/{name}/deliveries", { params: { path: { name }, query: { limit: 60 } } })) });

export type AlertQuery = { state?: "open" | "closed"; verdict?: "fault" | "noise" | "planned" | "none"; dataset?: string; monitor?: string; held?: "told" | "held" | "shadow" | "all"; disputed?: boolean; from?: string; to?: string; owner?: string; segment?: string; measure?: string; tag?: string; rule?: string; channel?: string; limit?: number };

export const useAlerts = (query: AlertQuery) =>
  useQuery({ queryKey: ["alerts", query], queryFn: () => answer(api.GET("/api/v1/alerts", { params: { query } })) });

export const useAlert = (id: number) =>
  useQuery({ queryKey: ["alerts", "one", id], queryFn: () => answer(api.GET("/api/v1/alerts/{id}", { params: { path: { id } } })) });

/** Why an alert rang, asked when its page is opened. */
export const useWhy = (id: number) =>
  useQuery({ queryKey: ["why", id], staleTime: 60_000, retry: false, queryFn: () => answer(api.GET("/api/v1/alerts/{id}/why", { params: { path: { id } } })) });

/** Rows behind an alert: shown, not kept. */
export const useRows = (id: number) =>
  useMutation({ gcTime: 0, mutationFn: (listing: string) => answer(api.POST("/api/v1/alerts/{id}/rows", { params: { path: { id } }, body: { listing, limit: 100 } })) });

/** Stages that are compared by the same aggregate. */
export const useReconciliations = () => useQuery({ queryKey: ["reconciliations"], refetchInterval: 60_000, queryFn: () => answer(api.GET("/api/v1/reconciliations")) });

/** Compares another stage with it from now on, and over the known past. */
export function useReconcile() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (order: Order) => answer(api.POST("/api/v1/reconciliations", { body: order })),
    onSuccess: () => {
      for (const key of ["reconciliations", "datasets", "monitors"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

export function useDropReconciliation() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) => answer(api.DELETE("/api/v1/reconciliations/{name}", { params: { path: { name } } })),
    onSuccess: () => {
      for (const key of ["reconciliations", "datasets", "monitors", "alerts"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

/** Rows that are on one side only: shown, not kept. */
export const useMissingKeys = (name: string) =>
  useMutation({ gcTime: 0, mutationFn: (s: { from: string; to: string }) => answer(api.POST("/api/v1/reconciliations/{name}/keys", { params: { path: { name } }, body: s })) });

export type Fill = "none" | "zero" | "previous" | "linear";

export const useChart = (series: number | undefined, from: Date, to: Date, fill: Fill = "none") =>
  useQuery({
    queryKey: ["chart", series, from.toISOString(), to.toISOString(), fill],
    enabled: series !== undefined,
    placeholderData: (before, query) => (query?.queryKey[1] === series ? before : undefined),
    queryFn: () =>
      answer(api.GET("/api/v1/series/{id}/chart", { params: { path: { id: series! }, query: { from: from.toISOString(), to: to.toISOString(), fill } } })),
  });

export const useExplain = (series: number | undefined, at: string | undefined) =>
  useQuery({
    queryKey: ["explain", series, at],
    enabled: series !== undefined && at !== undefined,
    queryFn: () => answer(api.GET("/api/v1/series/{id}/explain", { params: { path: { id: series! }, query: { at: at! } } })),
  });

export const useIncidents = () => useQuery({ queryKey: ["incidents"], queryFn: () => answer(api.GET("/api/v1/incidents", {})) });

export const useScorecard = () => useQuery({ queryKey: ["scorecard"], queryFn: () => answer(api.GET("/api/v1/scorecard", {})) });

export const usePlanned = () => useQuery({ queryKey: ["planned"], queryFn: () => answer(api.GET("/api/v1/planned-events", {})) });

/** Gives a verdict; an empty one takes it back. */
export function useLabel() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (l: { alerts: number[]; verdict: Verdict | ""; note?: string; seen?: Record<string, number> }) => answer(api.POST("/api/v1/labels", { body: l })),
    onSuccess: () => {
      for (const key of ["alerts", "groups", "chart", "scorecard", "filter"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

/** Imports a catalogue as CSV; bad lines are named in the answer. */
export function useImportIncidents() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (file: File) =>
      answer(api.POST("/api/v1/incidents/import", { body: await file.text(), bodySerializer: (text) => text, headers: { "Content-Type": "text/csv" } })),
    onSuccess: () => {
      for (const key of ["incidents", "scorecard", "chart"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

/** Replays all monitors over the last days, walking forward. */
export const useBacktest = () =>
  useMutation({ mutationFn: (days: number) => answer(api.POST("/api/v1/backtests", { body: { from: new Date(Date.now() - days * 86_400_000).toISOString() } })) });

export type NewIncident = { dataset: string; title: string; started_at: string; ended_at?: string; measure?: string; segment?: string; cause?: string; severity?: "warning" | "critical"; note?: string; impact?: string; downstream?: boolean; also?: string[] };

export function useAddIncident() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewIncident) => answer(api.POST("/api/v1/incidents", { body })),
    onSuccess: () => {
      for (const key of ["incidents", "scorecard", "chart"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

export const useMonitors = () => useQuery({ queryKey: ["monitors"], queryFn: () => answer(api.GET("/api/v1/monitors", {})) });

export const useMonitor = (name: string) =>
  useQuery({ queryKey: ["monitors", name], queryFn: () => answer(api.GET("/api/v1/monitors/{name}", { params: { path: { name } } })) });

/** A proposal beside what is in force, on the same past; the last answer stays while the next is on its way. */
export const useRehearsal = (name: string, settings: Settings | undefined, series: number | undefined, days: number) =>
  useQuery({
    queryKey: ["rehearsal", name, settings, series, days],
    enabled: settings !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      answer(api.POST("/api/v1/monitors/{name}/rehearsal", { params: { path: { name } }, body: { settings: settings!, series_id: series, since_seconds: days * 86_400 } })),
  });

/** Puts settings in force, if nobody else has meanwhile. */
/** What a monitor is called, whose it is, and whether it is needed. */
export const useRenameMonitor = (name: string) => {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: { name?: string; owner?: string; retired?: boolean }) => answer(api.PATCH("/api/v1/monitors/{name}", { params: { path: { name } }, body })),
    onSuccess: () => client.invalidateQueries(),
  });
};

export function useSaveMonitor(name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { version: number; settings: Settings; paused?: boolean }) => answer(api.PUT("/api/v1/monitors/{name}", { params: { path: { name } }, body })),
    onSuccess: () => {
      for (const key of ["monitors", "versions", "rehearsal", "chart", "scorecard", "losses"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

export const useMonitorStates = (name: string) =>
  useQuery({ queryKey: ["monitor", name, "states"], refetchInterval: 60_000, queryFn: () => answer(api.GET("/api/v1/monitors/{name}/states", { params: { path: { name } } })) });

export const useLosses = (name: string) =>
  useQuery({ queryKey: ["losses", name], queryFn: () => answer(api.GET("/api/v1/monitors/{name}/losses", { params: { path: { name } } })) });

export const useSuitability = (id: number) =>
  useQuery({ queryKey: ["suitability", id], queryFn: () => answer(api.GET("/api/v1/series/{id}/suitability", { params: { path: { id } } })) });

export const useSmoothing = (id: number, fill: Fill) =>
  useQuery({ queryKey: ["smoothing", id, fill], retry: false, placeholderData: keepPreviousData, queryFn: () => answer(api.GET("/api/v1/series/{id}/smoothing", { params: { path: { id }, query: { fill } } })) });

export const useOutliers = (metric: string, segment: string, days: number) =>
  useQuery({ queryKey: ["outliers", metric, segment, days], retry: false, placeholderData: keepPreviousData, queryFn: () => answer(api.GET("/api/v1/metrics/{name}/outliers", { params: { path: { name: metric }, query: { segment, from: new Date(Date.now() - days * 86_400_000).toISOString(), limit: 12 } } })) });

export const useTrends = (id: number, days: number) =>
  useQuery({ queryKey: ["trends", id, days], retry: false, placeholderData: keepPreviousData, queryFn: () => answer(api.GET("/api/v1/series/{id}/trends", { params: { path: { id }, query: days ? { since_seconds: days * 86_400 } : {} } })) });

export const useForecast = (id: number, days: number, limit: string) =>
  useQuery({
    queryKey: ["forecast", id, days, limit],
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () => answer(api.GET("/api/v1/series/{id}/forecast", { params: { path: { id }, query: { days, limit: limit || undefined } } })),
  });

/** Says that what a series shows since an alert began is its new normal. */
export function useNewNormal() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) => answer(api.POST("/api/v1/alerts/{id}/new-normal", { params: { path: { id } } })),
    onSuccess: () => {
      for (const key of ["alerts", "chart"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

export type By = "week" | "month" | "year";

export const useSheet = (q: { by: By; day?: string; back: number; tolerance: number; dataset?: string; tag?: string }) =>
  useQuery({ queryKey: ["consistency", q], retry: false, placeholderData: keepPreviousData, queryFn: () => answer(api.GET("/api/v1/consistency", { params: { query: q } })) });

export const useEarlier = (id: number, by: By) =>
  useQuery({ queryKey: ["earlier", id, by], retry: false, placeholderData: keepPreviousData, queryFn: () => answer(api.GET("/api/v1/series/{id}/earlier", { params: { path: { id }, query: { by } } })) });

export type Outlook = { metric: string[]; segment?: string; whole?: boolean; days: number; limit?: string; probability: number };

export const useOutlook = (q: Outlook) =>
  useQuery({ queryKey: ["outlook", q], retry: false, enabled: q.metric.length > 0, placeholderData: keepPreviousData, queryFn: () => answer(api.GET("/api/v1/forecasts", { params: { query: q } })) });
