import { useState } from "react";
import {
  keepPreviousData,
  queryOptions,
  useMutation,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { answer, api, type Chart, type Order, type Settings, type Verdict } from "./client";
import { keyOf, useOutdate } from "./keys";

export const meQuery = queryOptions({
  queryKey: keyOf("me"),
  queryFn: () => answer(api.GET("/api/v1/me")),
  retry: false,
  refetchInterval: 60_000,
});

export const useMe = () => useQuery(meQuery);

/** The service's clock, as of the last minute; until it is known, the browser's. */
export function useNow(): number {
  const me = useMe();
  const [began] = useState(() => Date.now());
  return me.data ? Date.parse(me.data.now) : began;
}

/** The same by the hour, so that what is asked for stays the same within it. */
export const useHour = () => Math.floor(useNow() / 3_600_000) * 3_600_000;

export const useHealth = () =>
  useQuery({
    queryKey: keyOf("datasets"),
    queryFn: () => answer(api.GET("/api/v1/datasets")),
    refetchInterval: 30_000,
  });

export const useDataset = (name: string) =>
  useQuery({
    queryKey: keyOf("datasets", name),
    queryFn: () => answer(api.GET("/api/v1/datasets/{name}", { params: { path: { name } } })),
  });

/** What hangs on a dataset beside its series. */
export const useLineage = (name: string) =>
  useQuery({
    queryKey: keyOf("lineage", name),
    queryFn: () => answer(api.GET("/api/v1/datasets/{name}/lineage", { params: { path: { name } } })),
  });

export const useRuns = (name: string) =>
  useQuery({
    queryKey: keyOf("runs", name),
    queryFn: () => answer(api.GET("/api/v1/datasets/{name}/runs", { params: { path: { name } } })),
  });

export const useColumns = (name: string) =>
  useQuery({
    queryKey: keyOf("columns", name),
    enabled: name !== "",
    queryFn: () => answer(api.GET("/api/v1/datasets/{name}/columns", { params: { path: { name } } })),
  });

export const useDeliveries = (name: string, enabled: boolean) =>
  useQuery({
    queryKey: keyOf("deliveries", name),
    enabled,
    refetchInterval: 60_000,
    queryFn: () =>
      answer(
        api.GET("/api/v1/datasets/{name}/deliveries", { params: { path: { name }, query: { limit: 60 } } }),
      ),
  });

export type AlertQuery = {
  state?: "open" | "closed";
  verdict?: "fault" | "noise" | "planned" | "none";
  dataset?: string;
  monitor?: string;
  held?: "told" | "held" | "shadow" | "all";
  disputed?: boolean;
  sort?: string;
  from?: string;
  to?: string;
  owner?: string;
  segment?: string;
  measure?: string;
  tag?: string;
  rule?: string;
  channel?: string;
  limit?: number;
};

export const useAlerts = (query: AlertQuery) =>
  useQuery({
    queryKey: keyOf("alerts", query),
    queryFn: () => answer(api.GET("/api/v1/alerts", { params: { query } })),
  });

export const useAlert = (id: number) =>
  useQuery({
    queryKey: keyOf("alerts", "one", id),
    queryFn: () => answer(api.GET("/api/v1/alerts/{id}", { params: { path: { id } } })),
  });

/** Why an alert rang, asked when its page is opened. */
export const useWhy = (id: number) =>
  useQuery({
    queryKey: keyOf("why", id),
    staleTime: 60_000,
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/alerts/{id}/why", { params: { path: { id } } })),
  });

/** Rows behind an alert: shown, not kept. */
export const useRows = (id: number) =>
  useMutation({
    gcTime: 0,
    mutationFn: (listing: string) =>
      answer(
        api.POST("/api/v1/alerts/{id}/rows", { params: { path: { id } }, body: { listing, limit: 100 } }),
      ),
  });

/** Stages that are compared by the same aggregate. */
export const useReconciliations = () =>
  useQuery({
    queryKey: keyOf("reconciliations"),
    refetchInterval: 60_000,
    queryFn: () => answer(api.GET("/api/v1/reconciliations")),
  });

/** Compares another stage with it from now on, and over the known past. */
export function useReconcile() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (order: Order) => answer(api.POST("/api/v1/reconciliations", { body: order })),
    onSuccess: () => outdate("reconciliations", "datasets", "monitors"),
  });
}

export function useDropReconciliation() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (name: string) =>
      answer(api.DELETE("/api/v1/reconciliations/{name}", { params: { path: { name } } })),
    onSuccess: () => outdate("reconciliations", "datasets", "monitors", "alerts"),
  });
}

/** Rows that are on one side only: shown, not kept. */
export const useMissingKeys = (name: string) =>
  useMutation({
    gcTime: 0,
    mutationFn: (s: { from: string; to: string }) =>
      answer(api.POST("/api/v1/reconciliations/{name}/keys", { params: { path: { name } }, body: s })),
  });

export type Fill = "none" | "zero" | "previous" | "linear";

const charted = (series: number, from: Date, to: Date, fill: Fill = "none") => ({
  queryKey: keyOf("chart", series, from.toISOString(), to.toISOString(), fill),
  queryFn: () =>
    answer(
      api.GET("/api/v1/series/{id}/chart", {
        params: { path: { id: series }, query: { from: from.toISOString(), to: to.toISOString(), fill } },
      }),
    ),
});

export const useChart = (series: number | undefined, from: Date, to: Date, fill: Fill = "none") =>
  useQuery({
    ...charted(series ?? 0, from, to, fill),
    enabled: series !== undefined,
    placeholderData: (before, query) => (query?.queryKey[1] === series ? before : undefined),
  });

/** At most so many siblings stand for all. */
const manySiblings = 12;

/** Charts of the other segments of a chart's metric. */
export function useSiblings(of: Chart | undefined, from: Date, to: Date): Chart[] {
  const all = useQuery({
    queryKey: keyOf("metrics", of?.metric, "series"),
    enabled: of !== undefined,
    queryFn: () =>
      answer(api.GET("/api/v1/metrics/{name}/series", { params: { path: { name: of!.metric } } })),
  });
  const others = (of && all.data ? all.data : [])
    .filter((s) => s.id !== of!.series.id && (s.segment === "") === (of!.series.segment === ""))
    .slice(0, manySiblings);
  return useQueries({ queries: others.map((s) => charted(s.id, from, to)) }).flatMap((q) => q.data ?? []);
}

export const useExplain = (series: number | undefined, at: string | undefined) =>
  useQuery({
    queryKey: keyOf("explain", series, at),
    enabled: series !== undefined && at !== undefined,
    queryFn: () =>
      answer(
        api.GET("/api/v1/series/{id}/explain", { params: { path: { id: series! }, query: { at: at! } } }),
      ),
  });

export const useIncidents = () =>
  useQuery({ queryKey: keyOf("incidents"), queryFn: () => answer(api.GET("/api/v1/incidents", {})) });

export const useScorecard = () =>
  useQuery({ queryKey: keyOf("scorecard"), queryFn: () => answer(api.GET("/api/v1/scorecard", {})) });

export const usePlanned = () =>
  useQuery({ queryKey: keyOf("planned"), queryFn: () => answer(api.GET("/api/v1/planned-events", {})) });

/** Gives a verdict; an empty one takes it back. */
export function useLabel() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (l: {
      alerts: number[];
      verdict: Verdict | "";
      note?: string;
      seen?: Record<string, number>;
    }) => answer(api.POST("/api/v1/labels", { body: l })),
    onSuccess: () => outdate("alerts", "groups", "chart", "scorecard", "filter"),
  });
}

/** Imports a catalogue as CSV; bad lines are named in the answer. */
export function useImportIncidents() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: async (file: File) =>
      answer(
        api.POST("/api/v1/incidents/import", {
          body: await file.text(),
          bodySerializer: (text) => text,
          headers: { "Content-Type": "text/csv" },
        }),
      ),
    onSuccess: () => outdate("incidents", "scorecard", "chart"),
  });
}

/** Replays all monitors over the last days, walking forward. */
export const useBacktest = () =>
  useMutation({
    mutationFn: (days: number) =>
      answer(
        api.POST("/api/v1/backtests", {
          body: { from: new Date(Date.now() - days * 86_400_000).toISOString() },
        }),
      ),
  });

export type NewIncident = {
  dataset: string;
  title: string;
  started_at: string;
  ended_at?: string;
  measure?: string;
  segment?: string;
  cause?: string;
  severity?: "warning" | "critical";
  note?: string;
  impact?: string;
  downstream?: boolean;
  also?: string[];
};

export function useAddIncident() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (body: NewIncident) => answer(api.POST("/api/v1/incidents", { body })),
    onSuccess: () => outdate("incidents", "scorecard", "chart"),
  });
}

/** All monitors; looked at again and again while one is being fitted. */
export const useMonitors = () =>
  useQuery({
    queryKey: keyOf("monitors"),
    refetchInterval: (query) => (query.state.data?.some((m) => !m.learned_at) ? 3000 : false),
    queryFn: () => answer(api.GET("/api/v1/monitors", {})),
  });

export const useMonitor = (name: string) =>
  useQuery({
    queryKey: keyOf("monitors", name),
    queryFn: () => answer(api.GET("/api/v1/monitors/{name}", { params: { path: { name } } })),
  });

/**
 * A proposal beside what is in force, on the same past; the last answer stays while the next is on its
 * way.
 */
export const useRehearsal = (
  name: string,
  settings: Settings | undefined,
  series: number | undefined,
  days: number,
) =>
  useQuery({
    queryKey: keyOf("rehearsal", name, settings, series, days),
    enabled: settings !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      answer(
        api.POST("/api/v1/monitors/{name}/rehearsal", {
          params: { path: { name } },
          body: { settings: settings!, series_id: series, since_seconds: days * 86_400 },
        }),
      ),
  });

/** Puts settings in force, if nobody else has meanwhile. */
/** What a monitor is called, whose it is, and whether it is needed. */
export const useRenameMonitor = (name: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { name?: string; owner?: string; retired?: boolean }) =>
      answer(api.PATCH("/api/v1/monitors/{name}", { params: { path: { name } }, body })),
    onSuccess: () => queries.invalidateQueries(),
  });
};

export function useSaveMonitor(name: string) {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (body: { version: number; settings: Settings; paused?: boolean }) =>
      answer(api.PUT("/api/v1/monitors/{name}", { params: { path: { name } }, body })),
    onSuccess: () => outdate("monitors", "versions", "rehearsal", "chart", "scorecard"),
  });
}

export const useMonitorStates = (name: string) =>
  useQuery({
    queryKey: keyOf("states", name),
    refetchInterval: 60_000,
    queryFn: () => answer(api.GET("/api/v1/monitors/{name}/states", { params: { path: { name } } })),
  });

export const useSmoothing = (id: number, fill: Fill) =>
  useQuery({
    queryKey: keyOf("smoothing", id, fill),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(api.GET("/api/v1/series/{id}/smoothing", { params: { path: { id }, query: { fill } } })),
  });

export const useOutliers = (metric: string, segment: string, days: number) =>
  useQuery({
    queryKey: keyOf("outliers", metric, segment, days),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/metrics/{name}/outliers", {
          params: {
            path: { name: metric },
            query: { segment, from: new Date(Date.now() - days * 86_400_000).toISOString(), limit: 12 },
          },
        }),
      ),
  });

export const useTrends = (id: number, days: number) =>
  useQuery({
    queryKey: keyOf("trends", id, days),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/series/{id}/trends", {
          params: { path: { id }, query: days ? { since_seconds: days * 86_400 } : {} },
        }),
      ),
  });

export const useForecast = (id: number, days: number, limit: string) =>
  useQuery({
    queryKey: keyOf("forecast", id, days, limit),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/series/{id}/forecast", {
          params: { path: { id }, query: { days, limit: limit || undefined } },
        }),
      ),
  });

/** Says that what a series shows since an alert began is its new normal. */
export function useNewNormal() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (id: number) =>
      answer(api.POST("/api/v1/alerts/{id}/new-normal", { params: { path: { id } } })),
    onSuccess: () => outdate("alerts", "chart"),
  });
}

export type By = "week" | "month" | "year";

export const useSheet = (q: {
  by: By;
  day?: string;
  back: number;
  tolerance: number;
  dataset?: string;
  tag?: string;
}) =>
  useQuery({
    queryKey: keyOf("consistency", q),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () => answer(api.GET("/api/v1/consistency", { params: { query: q } })),
  });

export const useEarlier = (id: number, by: By) =>
  useQuery({
    queryKey: keyOf("earlier", id, by),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(api.GET("/api/v1/series/{id}/earlier", { params: { path: { id }, query: { by } } })),
  });

export type Outlook = {
  metric: string[];
  segment?: string;
  whole?: boolean;
  days: number;
  limit?: string;
  probability: number;
};

export const useOutlook = (q: Outlook) =>
  useQuery({
    queryKey: keyOf("outlook", q),
    retry: false,
    enabled: q.metric.length > 0,
    placeholderData: keepPreviousData,
    queryFn: () => answer(api.GET("/api/v1/forecasts", { params: { query: q } })),
  });
