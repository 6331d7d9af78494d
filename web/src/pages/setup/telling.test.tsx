import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Channel, Message, Route } from "../../api/client";
import { Messages } from "../../parts/Messages";
import { at, here, serve } from "../../test/served";
import { TellingPage } from "./TellingPage";

const channel = (name: string, more: Partial<Channel> = {}) =>
  ({
    id: name.length,
    name,
    kind: "webhook",
    settings: { url: `https://hooks.example/${name}`, form: "cloudevent" },
    hourly_limit: 20,
    paused: false,
    failing_since: null,
    message: "",
    header_names: [],
    old_until: null,
    ...more,
  }) as unknown as Channel;

const route = (name: string, more: Partial<Route> = {}) =>
  ({
    id: name.length,
    name,
    channel: "pager",
    datasets: [],
    owners: [],
    tags: [],
    severity: "warning",
    hours: [],
    remind_seconds: 0,
    escalate_seconds: 0,
    escalate_to: "",
    ...more,
  }) as unknown as Route;

const served = (channels: Channel[], routes: Route[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /me": { body: { name: "mara", now: "2026-06-17T12:00:00Z", role: "admin" } },
    "GET /alerts": { body: { alerts: [] } },
    "GET /channels": { body: channels },
    "GET /routes": { body: routes },
    "GET /messages": { body: [] },
    ...more,
  });

const sent = (asked: ReturnType<typeof serve>, path: string) =>
  asked.find((a) => a.method === "POST" && a.path === path)?.body;

test("whether anybody is told at all is the first thing said", async () => {
  served([], []);
  const first = at("/setup/telling", <TellingPage />);
  await expect.poll(here).toBe("Nobody is told: add a channel, then a route to it.");
  expect(screen.queryByRole("form", { name: "new route" })).toBeNull();
  first.unmount();
  served([channel("pager")], []);
  const second = at("/setup/telling", <TellingPage />);
  await expect.poll(here).toBe("Nobody is told: no route leads to a channel.");
  second.unmount();
  served([channel("pager")], [route("everything")]);
  at("/setup/telling", <TellingPage />);
  await expect.poll(here).toBe("One channel is told along one route, and all can be reached.");
});

test("a channel that cannot be reached says since when and why, and is tried at once on demand", async () => {
  const broken = channel("pager", { failing_since: "2026-06-17T11:00:00Z", message: "it answers 503" });
  const asked = served([broken], [route("everything")], { "POST /channels/pager/retry": { body: {} } });
  at("/setup/telling", <TellingPage />);
  await expect.poll(here).toBe("pager cannot be reached; what is to be said waits.");
  expect(screen.getByText(/since Wed 11:00 UTC/).textContent).toContain("it answers 503");
  await userEvent.click(screen.getByText("try now"));
  await expect.poll(() => asked.some((a) => a.path === "/channels/pager/retry")).toBe(true);
});

test("a test says whether it has arrived, and if not why", async () => {
  let arrives = false;
  served([channel("pager")], [route("everything")], {
    "POST /channels/pager/test": () => ({
      body: arrives ? { state: "sent" } : { state: "failed", error: "timeout: no answer within 15 s" },
    }),
  });
  at("/setup/telling", <TellingPage />);
  await userEvent.click(await screen.findByText("send a test"));
  expect(await screen.findByText("The test did not arrive: timeout: no answer within 15 s")).toBeTruthy();
  arrives = true;
  await userEvent.click(screen.getByText("send a test"));
  expect(await screen.findByText("The test has arrived.")).toBeTruthy();
});

test("a new webhook's secret is shown once, and its headers are sent apart by line", async () => {
  const asked = served([], [], { "POST /channels": { body: { name: "chat", secret: "whsec_abc" } } });
  at("/setup/telling", <TellingPage />);
  const form = await screen.findByRole("form", { name: "new channel" });
  await userEvent.click(within(form).getByText("webhook"));
  await userEvent.type(within(form).getByLabelText("Name"), "chat");
  await userEvent.type(within(form).getByLabelText("Address"), "https://chat.example/hooks/1");
  fireEvent.change(within(form).getByLabelText(/^Headers/), {
    target: { value: "Authorization: Bearer a:b\n\n X-Team : ports " },
  });
  await userEvent.click(within(form).getByText("chat", { selector: "button" }));
  await userEvent.click(within(form).getByText("Add channel"));
  expect(await screen.findByText("whsec_abc")).toBeTruthy();
  expect(sent(asked, "/channels")).toEqual({
    name: "chat",
    kind: "webhook",
    settings: { url: "https://chat.example/hooks/1", form: "chat" },
    headers: { Authorization: "Bearer a:b", "X-Team": "ports" },
  });
});

test("receivers of mail are parted by commas or blanks; what was typed stays when refused", async () => {
  const asked = served([], [], {
    "POST /channels": {
      status: 422,
      body: { detail: "host: mail.example has no address", errors: [{ location: "body.settings.host" }] },
    },
  });
  at("/setup/telling", <TellingPage />);
  const form = await screen.findByRole("form", { name: "new channel" });
  await userEvent.type(within(form).getByLabelText("Name"), "night-desk");
  await userEvent.type(within(form).getByLabelText("To"), "a@x.example,  b@x.example");
  await userEvent.type(within(form).getByLabelText("From"), "bell@x.example");
  await userEvent.type(within(form).getByLabelText("SMTP server"), "mail.example");
  await userEvent.click(within(form).getByText("Add channel"));
  expect((await screen.findByRole("alert")).textContent).toContain("mail.example has no address");
  expect(sent(asked, "/channels")).toMatchObject({
    settings: { to: ["a@x.example", "b@x.example"], security: "starttls" },
  });
  expect(within(form).getByLabelText("To")).toHaveProperty("value", "a@x.example,  b@x.example");
});

test("a route takes patterns with commas, and tells nobody else unless that is chosen", async () => {
  const asked = served([channel("pager")], [], {
    "POST /routes": { body: { name: "ports", channel: "pager", remind_seconds: 0 } },
  });
  at("/setup/telling", <TellingPage />);
  const form = await screen.findByRole("form", { name: "new route" });
  await userEvent.type(within(form).getByLabelText("Name"), "ports");
  await userEvent.type(within(form).getByLabelText(/^Datasets/), "ops.*, raw.gate_events ,");
  await userEvent.type(within(form).getByLabelText(/^Hours/), "mon-fri 08:00-18:00");
  await userEvent.click(within(form).getByText("Add route"));
  await expect
    .poll(() => sent(asked, "/routes"))
    .toEqual({
      name: "ports",
      channel: "pager",
      datasets: ["ops.*", "raw.gate_events"],
      owners: [],
      tags: [],
      severity: "warning",
      hours: ["mon-fri 08:00-18:00"],
      zone: "UTC",
      remind_seconds: 0,
      escalate_seconds: 0,
      escalate_to: "",
    });
  expect(await screen.findByText(/Route ports leads to/)).toBeTruthy();
});

test("what a route is for is said in words: all where nothing narrows it", async () => {
  served(
    [channel("pager")],
    [
      route("nights", {
        severity: "critical",
        hours: ["mon-fri 18:00-08:00"],
        remind_seconds: 14_400,
        escalate_seconds: 1800,
        escalate_to: "chief",
      }),
    ],
  );
  at("/setup/telling", <TellingPage />);
  const row = (await screen.findByText("nights")).closest("tr")!;
  for (const said of ["all", "critical", "mon-fri 18:00-08:00", "every 4 h", "chief after 30 min"])
    expect(row.textContent).toContain(said);
});

test("a message says what became of it: when it is tried again, and why it failed", () => {
  const message = (id: string, more: Partial<Message>) =>
    ({
      id,
      channel: "pager",
      what: "opened",
      state: "sent",
      attempts: 1,
      created_at: "2026-06-17T10:00:00Z",
      sent_at: null,
      due_at: "2026-06-17T10:30:00Z",
      subject: `about ${id}`,
      group_id: 4,
      error: "",
      ...more,
    }) as unknown as Message;
  const list = [
    message("a", { sent_at: "2026-06-17T10:01:00Z" }),
    message("b", { state: "waiting", attempts: 2, error: "it answers 503" }),
    message("c", { state: "waiting", attempts: 0, subject: "" }),
    message("d", { state: "failed", error: "no such host", what: "reminder" }),
    message("e", { what: "test", group_id: null }),
  ];
  at("/", <Messages list={list} zone="UTC" none="No such message." />);
  const rows = screen
    .getAllByRole("row")
    .slice(1)
    .map((r) => r.textContent);
  expect(rows[0]).toContain("Wed 10:01");
  expect(rows[1]).toContain("tried again 10:30");
  expect(rows[1]).toContain("it answers 503");
  expect(rows[2]).toContain("not written yet");
  expect(rows[3]).toContain("reminded");
  expect(rows[3]).toContain("no such host");
  expect(within(screen.getAllByRole("row")[5]).queryByRole("link")).toBeNull();
});

test("where nothing was said, that is said", () => {
  at("/", <Messages list={[]} zone="UTC" none="Nobody has been told." />);
  expect(screen.getByText("Nobody has been told.")).toBeTruthy();
});
