import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test } from "vitest";
import { address, at, serve } from "../test/served";
import { SignInPage } from "./SignInPage";

afterEach(() => {
  window.location.hash = "";
});

test("a name and a password sign in and lead to the first page", async () => {
  const asked = serve({ "GET /session/ways": { body: { provider: "" } }, "POST /session": { body: {} } });
  at("/sign-in", <SignInPage />);
  await userEvent.type(screen.getByLabelText("Name"), "mara");
  await userEvent.type(screen.getByLabelText("Password"), "a long one{Enter}");
  await expect.poll(address).toBe("/");
  expect(asked.find((a) => a.method === "POST")?.body).toEqual({ name: "mara", password: "a long one" });
});

test("what is wrong is said, and what was typed stays", async () => {
  serve({ "POST /session": { status: 401, body: { detail: "no account has this name and password" } } });
  at("/sign-in", <SignInPage />);
  await userEvent.type(screen.getByLabelText("Name"), "mara");
  await userEvent.type(screen.getByLabelText("Password"), "wrong{Enter}");
  expect((await screen.findByRole("alert")).textContent).toBe("no account has this name and password");
  expect(screen.getByLabelText("Name")).toHaveProperty("value", "mara");
  expect(address()).toBe("/sign-in");
});

test("turning to a token takes the refusal of a password away", async () => {
  serve({ "POST /session": { status: 401, body: { detail: "no account has this name and password" } } });
  at("/sign-in", <SignInPage />);
  await userEvent.type(screen.getByLabelText("Password"), "wrong{Enter}");
  await screen.findByRole("alert");
  await userEvent.click(screen.getByText("with a token"));
  expect(screen.queryByRole("alert")).toBeNull();
  expect(screen.getByText(/was printed when the service started/)).toBeTruthy();
});

test("a link that carries a token signs in by itself, once", async () => {
  window.location.hash = "#tb_abc";
  const asked = serve({ "POST /session": { body: {} } });
  at("/sign-in", <SignInPage />);
  await expect.poll(address).toBe("/");
  expect(asked.filter((a) => a.method === "POST").map((a) => a.body)).toEqual([{ token: "tb_abc" }]);
});

test("where there is a provider the way through it comes first, by its name", async () => {
  serve({ "GET /session/ways": { body: { provider: "Harbour directory" } } });
  at("/sign-in", <SignInPage />);
  expect((await screen.findByText("Through Harbour directory")).getAttribute("href")).toBe(
    "/sign-in/provider",
  );
});

test("what the provider refused is read from the address", () => {
  serve({});
  at("/sign-in?wrong=nobody%20here%20has%20this%20address", <SignInPage />);
  expect(screen.getByRole("alert").textContent).toBe("nobody here has this address");
});
