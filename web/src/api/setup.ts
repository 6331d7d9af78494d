import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, api, type MetricChange, type NewMetric } from "./client";
import { keyOf, useOutdate } from "./keys";

/** Sources, their tables, and the work of setting them up. */
export const useSources = () =>
  useQuery({
    queryKey: keyOf("sources"),
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/sources")),
  });

export const useMetrics = () =>
  useQuery({
    queryKey: keyOf("metrics"),
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/metrics")),
  });

export const useTables = (source: string | undefined) =>
  useQuery({
    queryKey: keyOf("tables", source),
    enabled: source !== undefined,
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/sources/{name}/tables", { params: { path: { name: source! } } })),
  });

export const useFiles = (source: string) =>
  useQuery({
    queryKey: keyOf("files", source),
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/sources/{name}/files", { params: { path: { name: source } } })),
  });

/** Fast while something is under way. */
export const useTasks = () =>
  useQuery({
    queryKey: keyOf("tasks"),
    refetchInterval: (q) => (q.state.data?.some((t) => t.state === "running") ? 700 : 15_000),
    queryFn: () => answer(api.GET("/api/v1/tasks")),
  });

export const useTrySource = () =>
  useMutation({
    mutationFn: (body: { name: string; address: string }) =>
      answer(api.POST("/api/v1/sources/try", { body })),
  });

export function useAddSource() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: (body: { name: string; address: string }) => answer(api.POST("/api/v1/sources", { body })),
    onSuccess: () => outdate("sources"),
  });
}

export function useSteer() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: ({ id, verb }: { id: number; verb: "pause" | "resume" | "cancel" }) =>
      answer(api.POST("/api/v1/tasks/{id}/{verb}", { params: { path: { id, verb } } })),
    onSettled: () => outdate("tasks"),
  });
}

/** What a metric would ask the warehouse; nothing is kept. */
export const useTried = (metric: NewMetric | undefined) =>
  useQuery({
    queryKey: keyOf("tried", metric),
    enabled: metric !== undefined,
    retry: false,
    queryFn: () => answer(api.POST("/api/v1/metrics/try", { body: metric! })),
  });

export interface Plan {
  dataset: {
    source: string;
    name: string;
    owner: string;
    zone: string;
    loaded_by?: string;
    pattern?: string;
  };
  known: boolean;
  metrics: NewMetric[];
  since_seconds: number;
}

/** Adds a table with its metrics and orders their past, in that order; what is there already is kept. */
export function useMeasure() {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: async (plan: Plan) => {
      if (!plan.known) await answer(api.POST("/api/v1/datasets", { body: plan.dataset }));
      for (const body of plan.metrics) await answer(api.POST("/api/v1/metrics", { body }));
      return answer(
        api.POST("/api/v1/backfills", {
          body: { metrics: plan.metrics.map((m) => m.name), since_seconds: plan.since_seconds },
        }),
      );
    },
    onSettled: () => outdate("datasets", "metrics", "tasks", "tables", "files"),
  });
}

function useOfMetrics<T>(act: (of: T) => Promise<unknown>) {
  const outdate = useOutdate();
  return useMutation({
    mutationFn: act,
    onSuccess: () => outdate("metrics", "datasets", "monitors"),
  });
}

export const useChangeMetric = () =>
  useOfMetrics(({ name, body }: { name: string; body: MetricChange }) =>
    answer(api.PATCH("/api/v1/metrics/{name}", { params: { path: { name } }, body })),
  );

export const useRemoveMetric = () =>
  useOfMetrics((name: string) =>
    answer(api.DELETE("/api/v1/metrics/{name}", { params: { path: { name } } })),
  );
