import { useQuery } from "@tanstack/react-query";
import { answer, api } from "./client";
import { useAct } from "./learning";
import { keyOf } from "./keys";

/** Names for what one audience cares about. */
export const useTags = () =>
  useQuery({ queryKey: keyOf("tags"), queryFn: () => answer(api.GET("/api/v1/tags")) });

type Kind = "datasets" | "metrics" | "monitors";

/** Gives one thing a tag, or takes it off. */
export const useTagging = (kind: Kind, name: string) =>
  useAct(
    ({ tag, off }: { tag: string; off: boolean }) =>
      answer(
        api.PATCH("/api/v1/tags/{name}", {
          params: { path: { name: tag } },
          body: { [off ? "off" : "on"]: { [kind]: [name] } },
        }),
      ),
    ["tags", "datasets", "metrics", "monitors", "alerts", "groups"],
  );
