import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { address, at } from "../test/served";
import { type Column, Filter, Table, useFound } from "./Table";

type Boat = { name: string; berths: number | null; port: string };
const boats: Boat[] = [
  { name: "Fulmar", berths: 90, port: "Cald" },
  { name: "Gannet", berths: null, port: "Ansby" },
  { name: "Auk", berths: 400, port: "Ansby" },
];
const columns: Column<Boat>[] = [
  { id: "boat", head: "boat", fixed: true, by: (b) => b.name, cell: (b) => b.name },
  { id: "berths", head: "berths", num: true, by: (b) => b.berths, cell: (b) => b.berths ?? "–" },
  { id: "port", head: "port", away: true, cell: (b) => b.port },
];

function Boats() {
  const list = useFound(boats, (b) => `${b.name} ${b.port}`);
  return (
    <>
      <Filter by="name, port" />
      <Table columns={columns} rows={list} id={(b) => b.name} />
    </>
  );
}

const named = () =>
  screen
    .getAllByRole("row")
    .slice(1)
    .map((r) => within(r).getAllByRole("cell")[0].textContent);

test("a head sorts one way, the other, and no more; what has no figure comes last either way", async () => {
  at("/boats", <Boats />);
  const head = screen.getByRole("button", { name: /berths/ });
  expect(named()).toEqual(["Fulmar", "Gannet", "Auk"]);
  await userEvent.click(head);
  expect(named()).toEqual(["Auk", "Fulmar", "Gannet"]);
  expect(address()).toBe("/boats?sort=-berths");
  expect(screen.getByRole("columnheader", { name: /berths/ })).toHaveProperty("ariaSort", "descending");
  await userEvent.click(head);
  expect(named()).toEqual(["Fulmar", "Auk", "Gannet"]);
  await userEvent.click(head);
  expect(address()).toBe("/boats");
});

test("an address says what is shown and how it is sorted", () => {
  at("/boats?sort=boat&find=ansby&columns=port,berths", <Boats />);
  expect(named()).toEqual(["Auk", "Gannet"]);
  expect(screen.getAllByRole("columnheader").map((h) => h.textContent)).toEqual(["boat ▴", "port"]);
});

test("words that are typed narrow the list and stand in the address", async () => {
  at("/boats", <Boats />);
  await userEvent.type(screen.getByLabelText(/Filter/), "ans g");
  expect(named()).toEqual(["Gannet"]);
  expect(address()).toBe("/boats?find=ans+g");
});

test("columns are put away and fetched, but for what a row is called", async () => {
  at("/boats", <Boats />);
  await userEvent.click(screen.getByRole("button", { name: "Choose columns" }));
  expect(screen.getByLabelText("boat")).toHaveProperty("disabled", true);
  await userEvent.click(screen.getByLabelText("port"));
  await userEvent.click(screen.getByLabelText("berths"));
  expect(address()).toBe("/boats?columns=port%2Cberths");
});

test("of a thousand rows a screenful is drawn", () => {
  const many = Array.from({ length: 1000 }, (_, i) => ({ name: `b${i}`, berths: i, port: "" }));
  at("/boats", <Table columns={columns} rows={many} id={(b) => b.name} />);
  expect(named()).toHaveLength(60);
});

test("a long list that says its words can be narrowed by them, a short one need not", async () => {
  const many = Array.from({ length: 9 }, (_, i) => ({ id: i, name: `gate ${i}` }));
  const columns = [{ id: "name", head: "name", cell: (r: { name: string }) => r.name }];
  const { unmount } = at("/", <Table columns={columns} rows={many} id={(r) => r.id} words={(r) => r.name} />);
  await userEvent.type(screen.getByRole("searchbox"), "7");
  expect(address()).toBe("/?find=7");
  expect(screen.queryByText("gate 3")).toBeNull();
  expect(screen.getByText("gate 7")).toBeTruthy();
  unmount();
  at("/", <Table columns={columns} rows={many.slice(0, 3)} id={(r) => r.id} words={(r) => r.name} />);
  expect(screen.queryByRole("searchbox")).toBeNull();
});
