import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { answer, api, type Role } from "./client";
import { useAct } from "./learning";

export const useTokens = () => useQuery({ queryKey: ["tokens"], retry: false, refetchInterval: 30_000, queryFn: () => answer(api.GET("/api/v1/tokens")) });

export type WantedToken = { name: string; role: Role; for?: string; expires_seconds?: number };

export const useMakeToken = () => useAct((body: WantedToken) => answer(api.POST("/api/v1/tokens", { body })), ["tokens", "audit"]);

export const useRevoke = () => useAct((id: number) => answer(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })), ["tokens", "audit"]);

export const useSetRole = () => useAct(({ name, role }: { name: string; role: Role }) => answer(api.PUT("/api/v1/accounts/{name}/role", { params: { path: { name } }, body: { role } })), ["tokens", "audit"]);

export const useAudit = (who: string, what: string, about: string) =>
  useQuery({ queryKey: ["audit", who, what, about], retry: false, placeholderData: keepPreviousData, refetchInterval: 30_000, queryFn: () => answer(api.GET("/api/v1/audit", { params: { query: { who, what, about, limit: 200 } } })) });

export const useProof = () => useQuery({ queryKey: ["audit", "proof"], retry: false, queryFn: () => answer(api.GET("/api/v1/audit/proof")) });
