import { useQuery } from "@tanstack/react-query";
import { useAct } from "./learning";
import { answer, api, type NewNote } from "./client";
import { keyOf } from "./keys";

/** What people noted on a dataset's charts. */
export const useNotes = (dataset: string) =>
  useQuery({
    queryKey: keyOf("notes", dataset),
    queryFn: () => answer(api.GET("/api/v1/notes", { params: { query: { dataset } } })),
  });
export const useAddNote = () =>
  useAct((body: NewNote) => answer(api.POST("/api/v1/notes", { body })), ["notes", "chart"]);
export const useDropNote = () =>
  useAct(
    (id: number) => answer(api.DELETE("/api/v1/notes/{id}", { params: { path: { id } } })),
    ["notes", "chart"],
  );
