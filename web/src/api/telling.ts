import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useHealth } from "./queries";
import { useAct } from "./learning";
import { answer, api, type NewChannel, type NewEvent, type NewRoute, type NewSLA } from "./client";
import { keyOf, type Kind } from "./keys";

/** Groups of alerts, who is told of them, what was said; promises and calendars. */
export const useGroups = (query: { state?: "open"; dataset?: string; from?: string; limit?: number }) =>
  useQuery({
    queryKey: keyOf("groups", query),
    queryFn: () => answer(api.GET("/api/v1/groups", { params: { query } })),
  });

export const useGroup = (id: number | undefined) =>
  useQuery({
    queryKey: keyOf("groups", "one", id),
    enabled: id !== undefined,
    queryFn: () => answer(api.GET("/api/v1/groups/{id}", { params: { path: { id: id! } } })),
  });

export const useTakeGroup = () =>
  useAct(
    ({ id, back }: { id: number; back: boolean }) =>
      answer(api.POST("/api/v1/groups/{id}/take", { params: { path: { id } }, body: { back } })),
    ["groups"],
  );
export const useSnoozeGroup = () =>
  useAct(
    ({ id, seconds }: { id: number; seconds: number }) =>
      answer(api.POST("/api/v1/groups/{id}/snooze", { params: { path: { id } }, body: { seconds } })),
    ["groups"],
  );
export const useTellGroup = () =>
  useAct(
    ({ id, channel }: { id: number; channel: string }) =>
      answer(api.POST("/api/v1/groups/{id}/tell", { params: { path: { id } }, body: { channel } })),
    ["groups", "messages"],
  );
export const usePartGroup = () =>
  useAct(
    ({ id, alerts }: { id: number; alerts: number[] }) =>
      answer(api.POST("/api/v1/groups/{id}/part", { params: { path: { id } }, body: { alerts } })),
    ["groups", "alerts", "messages"],
  );
export const useJoinGroup = () =>
  useAct(
    ({ id, group }: { id: number; group: number }) =>
      answer(api.POST("/api/v1/groups/{id}/join", { params: { path: { id } }, body: { group } })),
    ["groups", "alerts", "messages"],
  );
export const useSnoozeMonitor = () =>
  useAct(
    ({ name, seconds }: { name: string; seconds: number }) =>
      answer(api.POST("/api/v1/monitors/{name}/snooze", { params: { path: { name } }, body: { seconds } })),
    ["monitors"],
  );

export const useChannels = () =>
  useQuery({
    queryKey: keyOf("channels"),
    queryFn: () => answer(api.GET("/api/v1/channels")),
  });
export const useRoutes = () =>
  useQuery({ queryKey: keyOf("routes"), queryFn: () => answer(api.GET("/api/v1/routes")) });
export const useMessages = (query: {
  channel?: string;
  state?: "waiting" | "sent" | "failed" | "dropped" | "summed";
  limit?: number;
}) =>
  useQuery({
    queryKey: keyOf("messages", query),
    placeholderData: keepPreviousData,
    queryFn: () => answer(api.GET("/api/v1/messages", { params: { query } })),
  });

const telling: Kind[] = ["channels", "routes", "messages", "mailbox"];
export const useSetChannel = () =>
  useAct((body: NewChannel) => answer(api.POST("/api/v1/channels", { body })), telling);
export const useTestChannel = () =>
  useAct(
    (name: string) => answer(api.POST("/api/v1/channels/{name}/test", { params: { path: { name } } })),
    telling,
  );
export const useRotate = () =>
  useAct(
    (name: string) => answer(api.POST("/api/v1/channels/{name}/rotate", { params: { path: { name } } })),
    telling,
  );
export const useRetry = () =>
  useAct(
    (name: string) => answer(api.POST("/api/v1/channels/{name}/retry", { params: { path: { name } } })),
    telling,
  );
export const useDropChannel = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/channels/{name}", { params: { path: { name } } })),
    telling,
  );
export const useSetRoute = () =>
  useAct((body: NewRoute) => answer(api.POST("/api/v1/routes", { body })), telling);
export const useDropRoute = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/routes/{name}", { params: { path: { name } } })),
    telling,
  );

export const useMailbox = () =>
  useQuery({
    queryKey: keyOf("mailbox"),
    retry: false,
    refetchInterval: 10_000,
    queryFn: () => answer(api.GET("/api/v1/mailbox", { params: { query: { limit: 200 } } })),
  });
export const useLetter = (id: number | undefined) =>
  useQuery({
    queryKey: keyOf("mailbox", id),
    enabled: id !== undefined,
    placeholderData: keepPreviousData,
    queryFn: () => answer(api.GET("/api/v1/mailbox/{id}", { params: { path: { id: id! } } })),
  });

export const usePromises = () =>
  useQuery({
    queryKey: keyOf("slas"),
    refetchInterval: 30_000,
    queryFn: () => answer(api.GET("/api/v1/slas")),
  });
export const useSetPromise = () =>
  useAct((body: NewSLA) => answer(api.POST("/api/v1/slas", { body })), ["slas"]);
export const useDropPromise = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/slas/{name}", { params: { path: { name } } })),
    ["slas"],
  );

/** The datasets' names, for lists to pick from. */
export const useHealthNames = () => (useHealth().data ?? []).map((h) => h.dataset.name);

export const useCalendars = () =>
  useQuery({ queryKey: keyOf("planned", "calendars"), queryFn: () => answer(api.GET("/api/v1/calendars")) });
export const useFeeds = () =>
  useQuery({
    queryKey: keyOf("planned", "feeds"),
    refetchInterval: 60_000,
    queryFn: () => answer(api.GET("/api/v1/calendar-feeds")),
  });
export const useFollow = () =>
  useAct(
    ({ name, address, effect }: { name: string; address: string; effect: "mute" | "widen" | "leave out" }) =>
      answer(
        api.PUT("/api/v1/calendars/{name}/feed", { params: { path: { name } }, body: { address, effect } }),
      ),
    ["planned", "chart"],
  );
export const useFetchFeed = () =>
  useAct(
    (name: string) => answer(api.POST("/api/v1/calendars/{name}/feed/fetch", { params: { path: { name } } })),
    ["planned", "chart"],
  );
export const useUnfollow = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/calendars/{name}/feed", { params: { path: { name } } })),
    ["planned"],
  );
export const useCountries = () =>
  useQuery({
    queryKey: keyOf("countries"),
    staleTime: Infinity,
    queryFn: () => answer(api.GET("/api/v1/calendars/countries")),
  });
export const useSuggestions = () =>
  useQuery({
    queryKey: keyOf("planned", "suggestions"),
    queryFn: () => answer(api.GET("/api/v1/planned-events/suggestions")),
  });
export const useAddEvent = () =>
  useAct((body: NewEvent) => answer(api.POST("/api/v1/planned-events", { body })), ["planned", "chart"]);
export const useDropEvent = () =>
  useAct(
    (uid: string) => answer(api.DELETE("/api/v1/planned-events/{uid}", { params: { path: { uid } } })),
    ["planned", "chart"],
  );
export const useAddHolidays = () =>
  useAct(
    (country: string) => answer(api.POST("/api/v1/calendars/holidays", { body: { country } })),
    ["planned", "chart"],
  );
export const useDropCalendar = () =>
  useAct(
    (name: string) => answer(api.DELETE("/api/v1/calendars/{name}", { params: { path: { name } } })),
    ["planned", "chart"],
  );
export const useImportCalendar = () =>
  useAct(
    async ({ file, effect }: { file: File; effect: "mute" | "widen" | "leave out" }) => {
      const name = file.name.replace(/\.ics$/i, "");
      return answer(
        api.PUT("/api/v1/calendars/{name}", {
          params: { path: { name }, query: { effect } },
          body: await file.text(),
          bodySerializer: (text) => text,
          headers: { "Content-Type": "text/calendar" },
        }),
      );
    },
    ["planned", "chart"],
  );
