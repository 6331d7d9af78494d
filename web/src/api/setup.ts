import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type MetricChange, type NewMetric } from "./client";

/** Sources, their tables, and the work of setting them up. */
export const useSources = () => useQuery({ queryKey: ["sources"], refetchInterval: 30_000, queryFn: () => answer(api.GET("/api/v1/sources")) });

export const useMetrics = () => useQuery({ queryKey: ["metrics"], refetchInterval: 30_000, queryFn: () => answer(api.GET("/api/v1/metrics")) });

export const useTables = (source: string | undefined) =>
  useQuery({ queryKey: ["tables", source], enabled: source !== undefined, retry: false, queryFn: () => answer(api.GET("/api/v1/sources/{name}/tables", { params: { path: { name: source! } } })) });

export const useFiles = (source: string) =>
  useQuery({ queryKey: ["files", source], retry: false, queryFn: () => answer(api.GET("/api/v1/sources/{name}/files", { params: { path: { name: source } } })) });

/** Fast while something is under way. */
export const useTasks = () =>
  useQuery({
    queryKey: ["tasks"],
    refetchInterval: (q) => (q.state.data?.some((t) => t.state === "running") ? 700 : 15_000),
    queryFn: () => answer(api.GET("/api/v1/tasks")),
  });

export const useTrySource = () => useMutation({ mutationFn: (body: { name: string; address: string }) => answer(api.POST("/api/v1/sources/try", { body })) });

export function useAddSource() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { name: string; address: string }) => answer(api.POST("/api/v1/sources", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sources"] }),
  });
}

export function useSteer() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ id, verb }: { id: number; verb: "pause" | "resume" | "cancel" }) => answer(api.POST("/api/v1/tasks/{id}/{verb}", { params: { path: { id, verb } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["tasks"] }),
  });
}

/** What a metric would ask the warehouse; nothing is kept. */
export const useTried = (metric: NewMetric | undefined) =>
  useQuery({ queryKey: ["tried", metric], enabled: metric !== undefined, retry: false, queryFn: () => answer(api.POST("/api/v1/metrics/try", { body: metric! })) });

export interface Plan {
  dataset: { source: string; name: string; owner: string; zone: string; loaded_by?: string; pattern?: string };
  known: boolean;
  metrics: NewMetric[];
  since_seconds: number;
}

/** Adds a table with its metrics and orders their past, in that order; what is there already is kept. */
export function useMeasure() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (plan: Plan) => {
      if (!plan.known) await answer(api.POST("/api/v1/datasets", { body: plan.dataset }));
      for (const body of plan.metrics) await answer(api.POST("/api/v1/metrics", { body }));
      return answer(api.POST("/api/v1/backfills", { body: { metrics: plan.metrics.map((m) => m.name), since_seconds: plan.since_seconds } }));
    },
    onSettled: () => {
      for (const key of ["datasets", "metrics", "tasks", "tables", "files"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

function useOfMetrics<T>(act: (of: T) => Promise<unknown>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: () => {
      for (const key of ["metrics", "datasets", "dataset", "monitors"]) queries.invalidateQueries({ queryKey: [key] });
    },
  });
}

export const useChangeMetric = () => useOfMetrics(({ name, body }: { name: string; body: MetricChange }) => answer(api.PATCH("/api/v1/metrics/{name}", { params: { path: { name } }, body })));

export const useRemoveMetric = () => useOfMetrics((name: string) => answer(api.DELETE("/api/v1/metrics/{name}", { params: { path: { name } } })));
