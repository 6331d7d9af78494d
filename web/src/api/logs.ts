import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { answer, api, type Correction } from "./client";
import { useAct } from "./learning";
import { keyOf } from "./keys";

export const useLogs = () =>
  useQuery({
    queryKey: keyOf("logs"),
    refetchInterval: 15_000,
    queryFn: () => answer(api.GET("/api/v1/logs")),
  });

export type Severity = "" | "TRACE" | "DEBUG" | "INFO" | "WARN" | "ERROR" | "FATAL";
export type Against = "before" | "hour" | "day" | "week" | "month";

const back = (hours: number) => new Date(Date.now() - hours * 3_600_000).toISOString();

export const useSentences = (
  name: string | undefined,
  hours: number,
  severity: Severity,
  words: string,
  where = "",
) =>
  useQuery({
    queryKey: keyOf("logs", name, "sentences", hours, severity, words, where),
    enabled: !!name,
    retry: false,
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/logs/{name}/templates", {
          params: { path: { name: name! }, query: { from: back(hours), severity, words, where } },
        }),
      ),
  });

export const useLogComparison = (name: string | undefined, hours: number, against: Against) =>
  useQuery({
    queryKey: keyOf("logs", name, "compare", hours, against),
    enabled: !!name,
    retry: false,
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/logs/{name}/compare", {
          params: { path: { name: name! }, query: { from: back(hours), against } },
        }),
      ),
  });

export const useSentence = (name: string, number: number) =>
  useQuery({
    queryKey: keyOf("logs", name, number),
    retry: false,
    refetchInterval: 15_000,
    queryFn: () =>
      answer(api.GET("/api/v1/logs/{name}/templates/{number}", { params: { path: { name, number } } })),
  });

export const useSay = (name: string, number: number) =>
  useAct(
    (body: { usual?: boolean; followed?: boolean }) =>
      answer(
        api.PATCH("/api/v1/logs/{name}/templates/{number}", { params: { path: { name, number } }, body }),
      ),
    ["logs", "alerts", "metrics"],
  );

export const useSetLog = (name: string) =>
  useAct(
    (body: {
      keep_samples?: number;
      watched?: string[];
      kinds?: string[];
      rare_seconds?: number;
      normal_seconds?: number;
    }) => answer(api.PATCH("/api/v1/logs/{name}", { params: { path: { name } }, body })),
    ["logs", "alerts"],
  );

export const useGoesWith = (name: string, number: number) =>
  useQuery({
    queryKey: keyOf("logs", name, number, "goes-with"),
    retry: false,
    staleTime: 60_000,
    queryFn: () =>
      answer(
        api.GET("/api/v1/logs/{name}/templates/{number}/goes-with", { params: { path: { name, number } } }),
      ),
  });

export const useFileLines = (name: string, number: number, asked: boolean) =>
  useQuery({
    queryKey: keyOf("logs", name, number, "lines"),
    enabled: asked,
    retry: false,
    queryFn: () =>
      answer(
        api.GET("/api/v1/logs/{name}/templates/{number}/lines", {
          params: { path: { name, number }, query: { limit: 30 } },
        }),
      ),
  });

export const useCorrect = (name: string, number: number) =>
  useAct(
    (body: Correction) =>
      answer(
        api.POST("/api/v1/logs/{name}/templates/{number}/correct", {
          params: { path: { name, number } },
          body,
        }),
      ),
    ["logs"],
  );

export const useFoundSentences = (hours: number, severity: Severity, words: string) =>
  useQuery({
    queryKey: keyOf("logs", "found", hours, severity, words),
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        api.GET("/api/v1/log-sentences", {
          params: { query: { from: back(hours), severity, words, limit: 60 } },
        }),
      ),
  });
