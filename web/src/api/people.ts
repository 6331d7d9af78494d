import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { answer, api, type Person, type Role } from "./client";
import { useAct } from "./learning";
import { keyOf } from "./keys";

export const useTokens = () =>
  useQuery({
    queryKey: keyOf("tokens"),
    retry: false,
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/tokens")),
  });

export type WantedToken = { name: string; role: Role; for?: string; expires_seconds?: number };

export const useMakeToken = () =>
  useAct((body: WantedToken) => answer(api.POST("/api/v1/tokens", { body })), ["tokens", "audit"]);

export const useRevoke = () =>
  useAct(
    (id: number) => answer(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    ["tokens", "audit"],
  );

export const useAccounts = () =>
  useQuery({
    queryKey: keyOf("accounts"),
    retry: false,
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/accounts")),
  });

export type Own = Person["role"];

export const usePutAccount = () =>
  useAct(
    ({ name, role, datasets }: { name: string; role: Own; datasets: string[] }) =>
      answer(api.PUT("/api/v1/accounts/{name}", { params: { path: { name } }, body: { role, datasets } })),
    ["accounts", "tokens", "audit"],
  );

export const useSetPassword = () =>
  useAct(
    ({ name, password }: { name: string; password: string }) =>
      answer(api.PUT("/api/v1/accounts/{name}/password", { params: { path: { name } }, body: { password } })),
    ["accounts", "audit"],
  );

export const useRemoveAccount = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/accounts/{name}", { params: { path: { name } } })),
    ["accounts", "tokens", "teams", "audit"],
  );

export const useTeams = () =>
  useQuery({ queryKey: keyOf("teams"), retry: false, queryFn: () => answer(api.GET("/api/v1/teams")) });

export const usePutTeam = () =>
  useAct(
    ({ name, ...body }: { name: string; role: Role; datasets: string[]; members: string[] }) =>
      answer(api.PUT("/api/v1/teams/{name}", { params: { path: { name } }, body })),
    ["accounts", "teams", "audit"],
  );

export const useRemoveTeam = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/teams/{name}", { params: { path: { name } } })),
    ["accounts", "teams", "audit"],
  );

export const useSessions = () =>
  useQuery({
    queryKey: keyOf("sessions"),
    retry: false,
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/sessions")),
  });

export const useEndSession = () =>
  useAct(
    (id: number) => answer(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } })),
    ["sessions"],
  );

/** Signs this browser out, or all of one's own. */
export const useSignOut = () =>
  useAct(
    (everywhere: boolean) =>
      answer(everywhere ? api.DELETE("/api/v1/sessions") : api.DELETE("/api/v1/session")),
    ["me"],
  );

export const useChangePassword = () =>
  useAct(
    (body: { password_before?: string; password: string }) =>
      answer(api.PUT("/api/v1/me/password", { body })),
    ["sessions"],
  );

export const useMyTokens = () =>
  useQuery({
    queryKey: keyOf("my tokens"),
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/me/tokens")),
  });

export const useMakeMyToken = () =>
  useAct(
    (body: { for?: string; expires_seconds?: number }) => answer(api.POST("/api/v1/me/tokens", { body })),
    ["my tokens"],
  );

export const useRevokeMine = () =>
  useAct(
    (id: number) => answer(api.DELETE("/api/v1/me/tokens/{id}", { params: { path: { id } } })),
    ["my tokens"],
  );

export const useWaysIn = () =>
  useQuery({
    queryKey: keyOf("ways in"),
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/session/ways")),
  });

export const useAudit = (who: string, what: string, about: string) =>
  useQuery({
    queryKey: keyOf("audit", who, what, about),
    retry: false,
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/audit", { params: { query: { who, what, about, limit: 200 } } })),
  });

export const useProof = () =>
  useQuery({
    queryKey: keyOf("audit", "proof"),
    retry: false,
    queryFn: () => answer(api.GET("/api/v1/audit/proof")),
  });
