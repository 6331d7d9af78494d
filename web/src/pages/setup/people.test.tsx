import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Team } from "../../api/client";
import { at, serve } from "../../test/served";
import { everywhere, patterns, roles } from "./roles";
import { Teams } from "./Teams";

const team = (name: string, more: Partial<Team> = {}) =>
  ({ id: name.length, name, role: "responder", datasets: [], members: [], ...more }) as unknown as Team;

test("patterns are read from what is typed, whatever blanks and commas are too many", () => {
  expect(patterns(" raw.*,, tag:harbour , ")).toEqual(["raw.*", "tag:harbour"]);
  expect(patterns("")).toEqual([]);
  expect(everywhere([])).toBe("all datasets");
  expect(everywhere(["raw.*", "ops.*"])).toBe("raw.*, ops.*");
});

test("each role may what the one before it may, and more", () => {
  expect(roles.map(([role]) => role)).toEqual(["reader", "responder", "editor", "admin"]);
  expect(roles.slice(1).every(([, , says]) => says.startsWith("also "))).toBe(true);
});

test("teams say what they give, where, and to whom", async () => {
  serve({
    "GET /teams": {
      body: [team("harbour", { datasets: ["raw.*"], members: ["mara", "jon"] }), team("nobody's")],
    },
  });
  at("/setup/people", <Teams />);
  const row = (await screen.findByText("harbour")).closest("tr")!;
  for (const said of ["responder", "raw.*", "mara, jon"]) expect(row.textContent).toContain(said);
  expect(screen.getByText("nobody's").closest("tr")!.textContent).toContain("all datasets");
  expect(screen.getByText("nobody yet")).toBeTruthy();
});

test("a new team is put under its name with its members apart", async () => {
  const asked = serve({ "GET /teams": { body: [] }, "PUT /teams/night%20desk": { body: {} } });
  at("/setup/people", <Teams />);
  expect(await screen.findByText("No team yet.")).toBeTruthy();
  await userEvent.click(screen.getByText("New team"));
  expect(screen.getByText("Save")).toHaveProperty("disabled", true);
  await userEvent.type(screen.getByLabelText("Team"), " night desk ");
  await userEvent.type(screen.getByLabelText(/^In:/), "raw.*, tag:harbour");
  await userEvent.type(screen.getByLabelText(/^Members/), "mara, jon");
  await userEvent.click(screen.getByText("Save"));
  await expect
    .poll(() => asked.find((a) => a.method === "PUT"))
    .toMatchObject({
      path: "/teams/night%20desk",
      body: { role: "responder", datasets: ["raw.*", "tag:harbour"], members: ["mara", "jon"] },
    });
  await expect.poll(() => screen.queryByText("Save")).toBeNull();
});

test("a team's name is fixed once it is made, and its end is asked for twice", async () => {
  const asked = serve({ "GET /teams": { body: [team("harbour")] }, "DELETE /teams/harbour": { body: {} } });
  at("/setup/people", <Teams />);
  await userEvent.click(await screen.findByLabelText("Change harbour"));
  expect(screen.getByLabelText("Team")).toHaveProperty("disabled", true);
  await userEvent.click(screen.getByText("remove the team"));
  const dialog = screen.getByRole("alertdialog");
  expect(dialog.textContent).toContain("Its members keep what they have otherwise.");
  expect(asked.some((a) => a.method === "DELETE")).toBe(false);
  await userEvent.click(within(dialog).getByText("Remove it"));
  await expect.poll(() => asked.some((a) => a.method === "DELETE")).toBe(true);
});

test("a member there is not is named in the refusal, and nothing that was typed is lost", async () => {
  serve({
    "GET /teams": { body: [team("harbour", { members: ["mara"] })] },
    "PUT /teams/harbour": { status: 422, body: { detail: "members: there is no account jonn" } },
  });
  at("/setup/people", <Teams />);
  await userEvent.click(await screen.findByLabelText("Change harbour"));
  await userEvent.type(screen.getByLabelText(/^Members/), ", jonn");
  await userEvent.click(screen.getByText("Save"));
  expect((await screen.findByRole("alert")).textContent).toContain("there is no account jonn");
  expect(screen.getByLabelText(/^Members/)).toHaveProperty("value", "mara, jonn");
});
