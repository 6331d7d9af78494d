import { useQuery } from "@tanstack/react-query";
import { answer, api } from "./client";
import { keyOf } from "./keys";

export const useCharacter = (id: number) =>
  useQuery({
    queryKey: keyOf("character", id),
    staleTime: 600_000,
    queryFn: () => answer(api.GET("/api/v1/series/{id}/character", { params: { path: { id } } })),
  });

export const useSuitability = (id: number) =>
  useQuery({
    queryKey: keyOf("suitability", id),
    queryFn: () => answer(api.GET("/api/v1/series/{id}/suitability", { params: { path: { id } } })),
  });
