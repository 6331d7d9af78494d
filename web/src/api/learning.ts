import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, api, type Settings } from "./client";
import type { NewIncident } from "./queries";
import { keyOf, useOutdate, type Kind } from "./keys";

/** What labels lead to: the queue, the filter, tuning and its proposals, versions. */
export const useQuestions = (limit = 14) =>
  useQuery({
    queryKey: keyOf("questions", limit),
    refetchInterval: 60_000,
    queryFn: () => answer(api.GET("/api/v1/label-queue", { params: { query: { limit } } })),
  });

/** The stretches of a monitor's past whose answers would move its limits most. */
export const usePast = (name: string) =>
  useQuery({
    queryKey: keyOf("past", name),
    staleTime: Infinity,
    queryFn: () =>
      answer(
        api.GET("/api/v1/monitors/{name}/questions", { params: { path: { name }, query: { limit: 7 } } }),
      ),
  });

/** The first question about a monitor's past, and how many there are. */
export const useFirstOfPast = (name: string | undefined) =>
  useQuery({
    queryKey: keyOf("first of past", name ?? ""),
    enabled: name !== undefined,
    staleTime: 600_000,
    queryFn: () =>
      answer(
        api.GET("/api/v1/monitors/{name}/questions", {
          params: { path: { name: name! }, query: { limit: 7 } },
        }),
      ),
  });

export const useAnswerPast = (name: string) =>
  useAct(
    (body: { series: number[]; from: string; to: string; verdict: "fault" | "noise" | "planned" }) =>
      answer(api.POST("/api/v1/monitors/{name}/answers", { params: { path: { name } }, body })),
    ["monitors", "rehearsal", "chart", "incidents", "first of past"],
  );

export const useHeld = (id: number | undefined) =>
  useQuery({
    queryKey: keyOf("held", id),
    enabled: id !== undefined,
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/alerts/{id}/held", { params: { path: { id: id! } } })),
  });

export const useFilter = () =>
  useQuery({ queryKey: keyOf("filter"), queryFn: () => answer(api.GET("/api/v1/filter")) });

export const useProposals = () =>
  useQuery({
    queryKey: keyOf("proposals"),
    queryFn: () => answer(api.GET("/api/v1/proposals", { params: { query: { state: "open" } } })),
  });

export const useVersions = (name: string) =>
  useQuery({
    queryKey: keyOf("versions", name),
    queryFn: () => answer(api.GET("/api/v1/monitors/{name}/versions", { params: { path: { name } } })),
  });

/** A tuning under way or done; fast while it runs. */
export const useTuning = (task: number | undefined) =>
  useQuery({
    queryKey: keyOf("tuning", task),
    enabled: task !== undefined,
    refetchInterval: (q) => (q.state.data?.task.state === "running" || !q.state.data ? 500 : false),
    queryFn: () => answer(api.GET("/api/v1/tunings/{id}", { params: { path: { id: task! } } })),
  });

/** Does something and has what hangs on it read again. */
export function useAct<T, R>(act: (of: T) => Promise<R>, kinds: Kind[]) {
  const outdate = useOutdate();
  return useMutation({ mutationFn: act, onSuccess: () => outdate(...kinds) });
}

export const useTune = () =>
  useAct(
    (monitors: string[] | undefined) => answer(api.POST("/api/v1/tunings", { body: { monitors } })),
    ["tasks"],
  );

/** Two configurations on the same past, in the background; its address can be shared. */
export const useTry = () =>
  useAct(
    (body: { monitors: string[]; settings: Settings; days: number }) =>
      answer(
        api.POST("/api/v1/trials", {
          body: {
            monitors: body.monitors,
            settings: body.settings,
            from: new Date(Date.now() - body.days * 86_400_000).toISOString(),
          },
        }),
      ),
    ["tasks"],
  );

export const useTrial = (id: number) =>
  useQuery({
    queryKey: keyOf("trial", id),
    refetchInterval: (q) => (q.state.data?.task.state === "running" ? 600 : false),
    queryFn: () => answer(api.GET("/api/v1/trials/{id}", { params: { path: { id } } })),
  });

export const useDecide = () =>
  useAct(
    ({ id, accept }: { id: number; accept: boolean }) =>
      answer(api.POST("/api/v1/proposals/{id}", { params: { path: { id } }, body: { accept } })),
    ["proposals", "monitors", "versions", "rehearsal", "scorecard", "chart"],
  );

export const useTakeBack = (name: string) =>
  useAct(
    (version: number) =>
      answer(
        api.POST("/api/v1/monitors/{name}/take-back", { params: { path: { name } }, body: { version } }),
      ),
    ["monitors", "versions", "rehearsal", "chart"],
  );

export const useAlwaysTell = (name: string) =>
  useAct(
    (always: boolean) =>
      answer(
        api.PUT("/api/v1/monitors/{name}/always-tell", { params: { path: { name } }, body: { always } }),
      ),
    ["monitors"],
  );

export const useChangeFilter = () =>
  useAct(
    (body: { state?: "off" | "shadow" | "active"; limit?: number; nightly?: boolean }) =>
      answer(api.PATCH("/api/v1/filter", { body })),
    ["filter", "alerts", "scorecard"],
  );

export const useStretchLabel = () =>
  useAct(
    (body: {
      series_id: number;
      from: string;
      to: string;
      verdict: "fault" | "noise" | "planned";
      note?: string;
    }) => answer(api.POST("/api/v1/stretches", { body })),
    ["incidents", "chart", "scorecard"],
  );

export const useIncidentOf = () =>
  useAct(
    (body: { alerts: number[]; title?: string; impact?: string }) =>
      answer(api.POST("/api/v1/incidents/of-alerts", { body })),
    ["incidents", "alerts", "chart", "scorecard", "questions"],
  );

const ofIncidents: Kind[] = ["incidents", "alerts", "chart", "scorecard"];

export const useChangeIncident = () =>
  useAct(
    ({ reference, ...body }: NewIncident & { reference: string }) =>
      answer(api.PUT("/api/v1/incidents/{name}", { params: { path: { name: reference } }, body })),
    ofIncidents,
  );

export const useMergeIncidents = () =>
  useAct(
    ([into, ...others]: string[]) =>
      answer(
        api.POST("/api/v1/incidents/{name}/merge", { params: { path: { name: into } }, body: { others } }),
      ),
    ofIncidents,
  );

export const useSplitIncident = () =>
  useAct(
    ({ reference, at }: { reference: string; at: string }) =>
      answer(
        api.POST("/api/v1/incidents/{name}/split", { params: { path: { name: reference } }, body: { at } }),
      ),
    ofIncidents,
  );

export const useDropIncident = () =>
  useAct(
    (reference: string) =>
      answer(api.DELETE("/api/v1/incidents/{name}", { params: { path: { name: reference } } })),
    ofIncidents,
  );

export type Grouping = "dataset" | "measure" | "segment" | "owner" | "tag" | "rule" | "channel" | "month";

export const useGroups = (by: Grouping | "monitor") =>
  useQuery({
    queryKey: keyOf("scorecard", by),
    enabled: by !== "monitor",
    queryFn: () => answer(api.GET("/api/v1/scorecard", { params: { query: { by: by as Grouping } } })),
  });

/** The score of what has a tag. */
export const useScoreOfTag = (tag: string) =>
  useQuery({
    queryKey: keyOf("scorecard", "tag", tag),
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/scorecard", { params: { query: { tag } } })),
  });

/** The score of a stretch. */
export const useScoreOf = (from: string, to: string) =>
  useQuery({
    queryKey: keyOf("scorecard", from, to),
    queryFn: () => answer(api.GET("/api/v1/scorecard", { params: { query: { from, to } } })),
  });

/** What differs between two settings, in a few words. */
export function differences(a: Settings, b: Settings): string[] {
  const keys = new Set([...Object.keys(a), ...Object.keys(b)]) as Set<keyof Settings>;
  return [...keys]
    .filter((k) => JSON.stringify(a[k] || 0) !== JSON.stringify(b[k] || 0))
    .map((k) => `${k.replace("_seconds", "").replaceAll("_", " ")}`);
}
