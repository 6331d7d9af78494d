import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useAct } from "./learning";
import { answer, api, type NewComparison } from "./client";
import { keyOf } from "./keys";

/** Drift comparisons: how they stand, by feature and period, and one period whole. */
export const useComparisons = () =>
  useQuery({
    queryKey: keyOf("drift"),
    queryFn: () => answer(api.GET("/api/v1/drift")),
  });

export const useMatrix = (name: string, from: string | undefined) =>
  useQuery({
    queryKey: keyOf("drift", name, "matrix", from),
    placeholderData: keepPreviousData,
    queryFn: () => answer(api.GET("/api/v1/drift/{name}", { params: { path: { name }, query: { from } } })),
  });

export const useDriftFeature = (name: string, feature: string | undefined, at: string | undefined) =>
  useQuery({
    queryKey: keyOf("drift", name, "feature", feature, at),
    enabled: feature !== undefined && at !== undefined,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/drift/{name}/features/{feature}", {
          params: { path: { name, feature: feature! }, query: { at } },
        }),
      ),
  });

export const useDriftPeriod = (name: string, at: string | undefined) =>
  useQuery({
    queryKey: keyOf("drift", name, "period", at),
    enabled: at !== undefined,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(api.GET("/api/v1/drift/{name}/period", { params: { path: { name }, query: { at } } })),
  });

export const useDriftPair = (name: string, first: string, second: string, at: string | undefined) =>
  useQuery({
    queryKey: keyOf("drift", name, "pair", first, second, at),
    enabled: first !== "" && second !== "" && first !== second,
    retry: false,
    queryFn: () =>
      answer(
        api.GET("/api/v1/drift/{name}/pair", { params: { path: { name }, query: { first, second, at } } }),
      ),
  });

export const useDriftModels = (name: string, at: string | undefined, from: string | undefined) =>
  useQuery({
    queryKey: keyOf("drift", name, "models", at, from),
    enabled: at !== undefined,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(api.GET("/api/v1/drift/{name}/models", { params: { path: { name }, query: { at, from } } })),
  });

export const useSetComparison = () =>
  useAct((body: NewComparison) => answer(api.POST("/api/v1/drift", { body })), ["drift"]);
export const useProposeComparison = () =>
  useAct((body: NewComparison) => answer(api.POST("/api/v1/drift/proposals", { body })), []);
export const useDropComparison = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/drift/{name}", { params: { path: { name } } })),
    ["drift"],
  );
export const useRunComparison = () =>
  useAct(
    ({ name, all }: { name: string; all: boolean }) =>
      answer(api.POST("/api/v1/drift/{name}/run", { params: { path: { name } }, body: { all } })),
    ["drift", "tasks"],
  );
export const useMoveReference = (name: string) =>
  useAct(
    (body: { from: string; to: string }) =>
      answer(api.POST("/api/v1/drift/{name}/reference", { params: { path: { name } }, body })),
    ["drift"],
  );
