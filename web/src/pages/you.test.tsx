import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { address, at, here, serve } from "../test/served";
import { YouPage } from "./YouPage";

const me = (more: object = {}) => ({
  name: "mara",
  role: "editor",
  sign_in: true,
  now: "2026-06-17T09:00:00Z",
  within: [],
  grants: [
    { role: "reader", datasets: [], team: "" },
    { role: "editor", datasets: ["ops.*"], team: "harbour" },
    { role: "none", datasets: [], team: "" },
  ],
  ...more,
});

const firefox = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
const edge =
  "Mozilla/5.0 (Windows NT 10.0) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0 Safari/537.36 Edg/140.0";

const session = (id: number, more: object = {}) => ({
  id,
  here: false,
  origin: "192.0.2.7",
  agent: firefox,
  by: "password",
  used_at: "2026-06-16T09:00:00Z",
  ...more,
});

const served = (more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /me": { body: me() },
    "GET /sessions": {
      body: [session(1, { here: true }), session(2, { agent: edge }), session(3, { agent: "curl/8" })],
    },
    "GET /me/tokens": { body: [] },
    "GET /alerts": { body: { alerts: [] } },
    ...more,
  });

test("who one is, what one may and through which team", async () => {
  served();
  at("/you", <YouPage />);
  await expect.poll(here).toBe("You are mara, editor, signed in on 3 browsers.");
  const grants = [...document.querySelectorAll("[data-grants] tr")].map((r) => r.textContent);
  expect(grants).toEqual(["readerin all datasetsyourself", "editorin ops.*as a member of harbour"]);
});

test("browsers are called by their names, and another than this one can be signed out", async () => {
  const asked = served({ "DELETE /sessions/2": { body: {} } });
  at("/you", <YouPage />);
  await screen.findByText("Edge on Windows");
  expect(screen.getByText("Firefox on Linux")).toBeTruthy();
  expect(screen.getByText("curl/8")).toBeTruthy();
  const out = screen.getAllByText("sign it out");
  expect(out).toHaveLength(2);
  await userEvent.click(out[0]);
  await expect.poll(() => asked.some((a) => a.method === "DELETE" && a.path === "/sessions/2")).toBe(true);
});

test("signing out leads to the way in, here or everywhere", async () => {
  const asked = served({ "DELETE /session": { body: {} }, "DELETE /sessions": { body: {} } });
  const { unmount } = at("/you", <YouPage />);
  await userEvent.click(await screen.findByText("Sign out"));
  await expect.poll(address).toBe("/sign-in");
  unmount();
  at("/you", <YouPage />);
  await userEvent.click(await screen.findByText("sign out everywhere"));
  await expect.poll(address).toBe("/sign-in");
  expect(asked.filter((a) => a.method === "DELETE").map((a) => a.path)).toEqual(["/session", "/sessions"]);
});

test("a sign-out that failed is said, and nobody is sent away", async () => {
  served({ "DELETE /session": { status: 503, body: { detail: "the database does not answer" } } });
  at("/you", <YouPage />);
  await userEvent.click(await screen.findByText("Sign out"));
  expect((await screen.findByRole("alert")).textContent).toContain("the database does not answer");
  expect(address()).toBe("/you");
});

test("a new password is sent with the one before, and the fields are emptied", async () => {
  const asked = served({ "PUT /me/password": { body: {} } });
  at("/you", <YouPage />);
  const next = await screen.findByLabelText(/From now on/);
  expect(screen.getByRole("button", { name: "Change it" }).hasAttribute("disabled")).toBe(true);
  await userEvent.type(screen.getByLabelText(/Until now/), "old and long enough");
  await userEvent.type(next, "a much longer one");
  await userEvent.click(screen.getByRole("button", { name: "Change it" }));
  expect((await screen.findByRole("status")).textContent).toContain("all other browsers are signed out");
  expect(asked.find((a) => a.method === "PUT")?.body).toEqual({
    password_before: "old and long enough",
    password: "a much longer one",
  });
  expect((next as HTMLInputElement).value).toBe("");
});

test("a password that is refused stays as it was typed", async () => {
  served({ "PUT /me/password": { status: 422, body: { detail: "12 characters at least" } } });
  at("/you", <YouPage />);
  const next = await screen.findByLabelText(/From now on/);
  await userEvent.type(next, "short");
  await userEvent.click(screen.getByRole("button", { name: "Change it" }));
  expect((await screen.findByRole("alert")).textContent).toBe("12 characters at least");
  expect((next as HTMLInputElement).value).toBe("short");
});

test("a token is shown once, says when it ends, and is taken back", async () => {
  const asked = served({
    "GET /me/tokens": {
      body: [
        { id: 4, for: "notebook", role: "reader", expires_at: "2026-08-01T12:00:00Z" },
        { id: 5, for: "", role: "editor", expires_at: null },
      ],
    },
    "POST /me/tokens": { body: { id: 6, token: "tb_once" } },
    "DELETE /me/tokens/5": { body: {} },
  });
  at("/you", <YouPage />);
  expect((await screen.findByText("notebook")).closest("tr")?.textContent).toContain("ends Sat");
  expect(screen.getByText("never ends")).toBeTruthy();
  await userEvent.type(screen.getByLabelText(/What it is for/), " loader ");
  await userEvent.click(screen.getByRole("button", { name: "Make one" }));
  expect((await screen.findByRole("status")).textContent).toBe("Shown once: tb_once");
  expect(asked.find((a) => a.method === "POST")?.body).toEqual({
    for: "loader",
    expires_seconds: 90 * 86_400,
  });
  await userEvent.click(screen.getByLabelText("take back the token 5"));
  await expect.poll(() => asked.some((a) => a.path === "/me/tokens/5")).toBe(true);
});

test("where nobody signs in there is no password to change", async () => {
  served({ "GET /me": { body: me({ sign_in: false }) } });
  at("/you", <YouPage />);
  await expect.poll(here).toMatch(/^Nobody signs in here/);
  expect(screen.queryByText("Change it")).toBeNull();
});

test("a token for some datasets says that it is for these alone", async () => {
  served({ "GET /me": { body: me({ within: ["ops.sales", "ops.staff"] }) } });
  at("/you", <YouPage />);
  expect(
    await screen.findByText("The token you signed in with is for ops.sales, ops.staff alone."),
  ).toBeTruthy();
});
