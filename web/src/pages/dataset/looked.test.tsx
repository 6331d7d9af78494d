import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, test } from "vitest";
import { at, cells, part, serve } from "../../test/served";
import { Noted } from "./Noted";
import { Reconciled } from "./Reconciled";
import { StandOut } from "./StandOut";

const now = "2026-06-17T09:00:00Z";
const editor = { "GET /me": { body: { name: "mara", role: "editor", now } } };
const reader = { "GET /me": { body: { name: "jon", role: "reader", now } } };
const name = "raw.gates";

describe("stages that are compared", () => {
  const compared = (more: object = {}) => ({
    name: "gates-day",
    metric: "gates-day-lack",
    up_dataset: name,
    down_dataset: "mart.day",
    up_key: "id",
    lag_seconds: 1800,
    tolerance: 0.02,
    compared_to: "2026-06-17T08:00:00Z",
    message: "",
    ...more,
  });
  const open = (list: object[], more: Parameters<typeof serve>[0] = editor) => {
    const asked = serve({ "GET /reconciliations": { body: list }, ...more });
    at("/", <Reconciled name={name} zone="UTC" />);
    return asked;
  };

  test("stand with their lag and tolerance, those of other datasets do not", async () => {
    open([
      compared(),
      compared({ name: "other", up_dataset: "a", down_dataset: "b" }),
      compared({ name: "late", message: "it is locked" }),
    ]);
    const own = await part(/^Reconciled/);
    expect(
      own
        .getAllByRole("row")
        .slice(1)
        .map((r) => cells(r).slice(0, 6)),
    ).toEqual([
      ["gates-day", name, "mart.day", "30 min", "2 %", "Wed 08:00"],
      ["late", name, "mart.day", "30 min", "2 %", "it is locked"],
    ]);
  });

  test("rows on one side are looked up when asked, named, and not kept", async () => {
    const asked = open([compared()], {
      ...editor,
      "POST /reconciliations/gates-day/keys": {
        body: {
          sides: [
            {
              dataset: name,
              missing: 14,
              rows: 900,
              key: "id",
              segments: { Fennick: 3, "": 1, Northmole: 10 },
              some: ["a", "b"],
            },
            { dataset: "mart.day", missing: 0, rows: 886, key: "id", segments: {}, some: [] },
          ],
        },
      },
    });
    await userEvent.click(await screen.findByText("rows on one side"));
    const said = (await screen.findByText(/are not on the other side/)).textContent;
    expect(said).toBe(
      `${name}: 14 of 900 keys of the last day are not on the other side: ` +
        "10 of Northmole, 3 of Fennick. id: a, b, …",
    );
    expect(screen.getByText(/the other side has all of its 886 keys/)).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({
      from: "2026-06-16T08:00:00.000Z",
      to: "2026-06-17T08:00:00Z",
    });
  });

  test("end only after a second word, and not by a reader", async () => {
    const asked = open([compared()], {
      ...editor,
      "DELETE /reconciliations/gates-day": { status: 409, body: { detail: "it is being read" } },
    });
    await userEvent.click(await screen.findByText("remove"));
    await userEvent.click(screen.getByText("End it"));
    expect((await screen.findByRole("alert")).textContent).toBe("it is being read");
    expect(asked.some((a) => a.method === "DELETE")).toBe(true);
  });

  test("a reader sees them and changes nothing; without any there is nothing to see", async () => {
    open([compared()], reader);
    await part(/^Reconciled/);
    expect(screen.queryByText("remove")).toBeNull();
    expect(screen.queryByText("compare with another stage")).toBeNull();
  });

  test("a new one says which stage comes first", async () => {
    const columns = [{ seen_at: now, columns: [{ name: "id" }, { name: "gate" }], changes: [] }];
    const asked = open([], {
      ...editor,
      "GET /datasets": { body: [{ dataset: { name } }, { dataset: { name: "mart.day" } }] },
      [`GET /datasets/${name}/columns`]: { body: columns },
      "GET /datasets/mart.day/columns": { body: columns },
      "POST /reconciliations": { body: {} },
    });
    await userEvent.click(await screen.findByText("compare with another stage"));
    const choose = async (label: RegExp, option: string) => {
      await userEvent.click(screen.getByRole("combobox", { name: label }));
      await userEvent.click(await screen.findByRole("option", { name: option }));
    };
    await choose(/^The other stage/, "mart.day");
    await choose(/^It comes/, `before ${name}`);
    await choose(/^By segment/, "gate");
    fireEvent.change(screen.getByLabelText(/^Lag/), { target: { value: "30" } });
    fireEvent.change(screen.getByLabelText(/^Tolerance/), { target: { value: "2" } });
    await userEvent.click(screen.getByRole("button", { name: "Compare" }));
    await expect
      .poll(() => asked.find((a) => a.method === "POST")?.body)
      .toMatchObject({
        up: "mart.day",
        down: name,
        measure: "rows",
        by: ["gate"],
        lag_seconds: 1800,
        tolerance: 0.02,
      });
  });
});

describe("rows that stand out", () => {
  const columns = {
    [`GET /datasets/${name}/columns`]: {
      body: [
        {
          seen_at: now,
          changes: [],
          columns: [
            { name: "ship_id", type: "bigint" },
            { name: "fare", type: "numeric(8,2)" },
            { name: "gate", type: "text" },
          ],
        },
      ],
    },
  };
  const odd = { at: now, place: "", value: 900, usual: 90, modified_z: 8.25, rules: ["fences"] };

  test("are looked up by a column with numbers that is no key", async () => {
    const asked = serve({
      ...columns,
      [`POST /datasets/${name}/outliers`]: {
        body: {
          column: "fare",
          rows: 12_000,
          more: true,
          sql: "select 1",
          studies: [{ sentence: "1 stands out.", zone: "UTC", odd: [odd] }],
        },
      },
    });
    at("/", <StandOut dataset={name} />);
    await userEvent.click(await screen.findByText("look"));
    expect((await screen.findByText(/1 stands out/)).textContent).toContain(
      "Only the newest 12,000 rows were looked at.",
    );
    expect(cells(screen.getAllByRole("row")[1])).toEqual(["Wed 17 Jun 09:00", "900", "90", "+8.3", "fences"]);
    expect(screen.getByText("select 1")).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({ column: "fare", limit: 8 });
  });

  test("are told apart by the values of another column", async () => {
    const study = (rows: object[]) => ({ sentence: "", zone: "UTC", odd: rows });
    serve({
      ...columns,
      [`POST /datasets/${name}/outliers`]: {
        body: {
          column: "fare",
          rows: 12_000,
          more: false,
          sql: "",
          studies: [study([{ ...odd, place: "Fennick" }]), study([]), study([odd])],
        },
      },
    });
    at("/", <StandOut dataset={name} />);
    await userEvent.click(await screen.findByLabelText(/each value of/));
    await userEvent.click(await screen.findByRole("option", { name: "gate" }));
    await userEvent.click(screen.getByText("look"));
    expect(await screen.findByText("Rows of 2 of 3 values of gate stand out.")).toBeTruthy();
    expect(
      screen
        .getAllByRole("row")
        .slice(1)
        .map((r) => cells(r)[1]),
    ).toEqual(["Fennick", "(none)"]);
  });

  test("of a table without numbers there are none", async () => {
    serve({
      [`GET /datasets/${name}/columns`]: {
        body: [{ seen_at: now, changes: [], columns: [{ name: "gate", type: "text" }] }],
      },
    });
    at("/", <StandOut dataset={name} />);
    expect(await screen.findByText("No column with numbers is known of this table.")).toBeTruthy();
  });
});

describe("notes", () => {
  const note = (id: number, more: object = {}) => ({
    id,
    at: now,
    text: `note ${id}`,
    author: "mara",
    dataset: name,
    link: "",
    ...more,
  });

  test("are listed with who wrote them, and those on everything say so", async () => {
    serve({
      ...reader,
      "GET /notes": { body: [note(1, { link: "https://changes.example/81" }), note(2, { dataset: "" })] },
    });
    at("/", <Noted name={name} zone="UTC" />);
    expect((await screen.findByText("note 1")).getAttribute("href")).toBe("https://changes.example/81");
    expect(screen.getByText(/note 2/).textContent).toContain("mara, on all datasets");
    expect(screen.queryByText("remove")).toBeNull();
  });

  test("are written with the time they are about, or with now", async () => {
    const asked = serve({ ...editor, "GET /notes": { body: [] }, "POST /notes": { body: {} } });
    at("/", <Noted name={name} zone="UTC" />);
    await userEvent.click(await screen.findByText("note something"));
    await userEvent.type(screen.getByLabelText("What happened"), "release 4.2");
    await userEvent.click(screen.getByRole("button", { name: "Note" }));
    await expect
      .poll(() => asked.find((a) => a.method === "POST")?.body)
      .toEqual({ dataset: name, text: "release 4.2" });
    await expect.poll(() => screen.queryByLabelText("What happened")).toBeNull();
  });

  test("that are refused stay as they were typed", async () => {
    serve({
      ...editor,
      "GET /notes": { body: [] },
      "POST /notes": { status: 422, body: { detail: "it lies ahead" } },
    });
    at("/", <Noted name={name} zone="UTC" />);
    await userEvent.click(await screen.findByText("note something"));
    await userEvent.type(screen.getByLabelText("What happened"), "release 4.2");
    fireEvent.change(screen.getByLabelText("When, by your clock"), { target: { value: "2031-01-01T00:00" } });
    await userEvent.click(screen.getByRole("button", { name: "Note" }));
    expect((await screen.findByRole("alert")).textContent).toBe("it lies ahead");
    expect(screen.getByLabelText<HTMLInputElement>("What happened").value).toBe("release 4.2");
  });
});
