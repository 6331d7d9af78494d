import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { address, at, here, serve } from "../../test/served";
import { MailboxPage } from "./MailboxPage";

const letter = (id: number, more: object = {}) => ({
  id,
  subject: `gate ${id} is silent`,
  through: "email",
  to: "mara@harbour.example",
  signature: "",
  times: 1,
  at: `2026-06-17T0${id}:00:00Z`,
  ...more,
});

const hook = letter(2, { through: "webhook", to: "/hook", signature: "holds", times: 2 });

const served = (list: object[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /mailbox": { body: list },
    "GET /mailbox/3": {
      body: { ...letter(3), key: "k3", html: '<img src="cid:chart.png">', picture: "QUJD", text: "" },
    },
    "GET /mailbox/2": { body: { ...hook, key: "k2", html: "", text: '{"b":1}' } },
    "GET /mailbox/1": { body: { ...letter(1), key: "k1", html: "", text: "plain words" } },
    "GET /alerts": { body: { alerts: [] } },
    ...more,
  });

test("what came is counted by how it came, and what came twice under its key is said", async () => {
  served([letter(3), hook, letter(1)]);
  at("/setup/mailbox", <MailboxPage />);
  await expect.poll(here).toBe("2 e-mails and 1 webhook have come; one came again under the same key.");
  expect(screen.getByText("webhook to /hook, signature holds, 2 times")).toBeTruthy();
});

test("the newest is open, an HTML letter walled off and with its picture in it", async () => {
  served([letter(3), letter(1)]);
  at("/setup/mailbox", <MailboxPage />);
  const frame = await screen.findByTitle("letter");
  expect(frame.getAttribute("sandbox")).toBe("");
  expect(frame.getAttribute("srcdoc")).toBe('<img src="data:image/png;base64,QUJD">');
  expect(here()).toBe("2 e-mails and 0 webhooks have come; none came twice.");
});

test("J and K go through the letters and stop at the ends", async () => {
  served([letter(3), hook, letter(1)]);
  at("/setup/mailbox", <MailboxPage />);
  await screen.findByTitle("letter");
  await userEvent.keyboard("k");
  expect(address()).toBe("/setup/mailbox");
  await userEvent.keyboard("j");
  expect(address()).toBe("/setup/mailbox?letter=2");
  expect((await screen.findByText(/"b": 1/)).tagName).toBe("PRE"); // JSON is laid out
  await userEvent.keyboard("jj");
  expect(address()).toBe("/setup/mailbox?letter=1");
  expect(await screen.findByText("plain words")).toBeTruthy();
  expect(screen.getByRole("button", { pressed: true }).textContent).toContain("gate 1 is silent");
});

test("an empty mailbox says how something comes into it", async () => {
  served([]);
  at("/setup/mailbox", <MailboxPage />);
  await expect.poll(here).toBe("Nothing has come yet.");
  expect(screen.getByText("tinbell demo break stall raw.gate_events")).toBeTruthy();
});

test("a service without a mailbox says so", async () => {
  served([], { "GET /mailbox": { status: 404, body: { detail: "only the demo keeps what it sends" } } });
  at("/setup/mailbox", <MailboxPage />);
  await expect.poll(here).toBe("There is no mailbox here.");
  expect(screen.getByRole("alert").textContent).toContain("only the demo keeps what it sends");
});
