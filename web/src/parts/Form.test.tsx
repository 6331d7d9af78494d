import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import { Refused } from "../api/client";
import { Button, Field, Form } from "./Form";
import { Option, Select } from "./Select";

function Dataset({ error }: { error: Error | null }) {
  return (
    <Form error={error} aria-label="new">
      <Field label="Name" of="name">
        <input name="name" defaultValue="parcels" />
      </Field>
      <Field label="Zone" help="Whose clocks it goes by." of="zone">
        <input name="zone" />
      </Field>
      <Button type="submit">Add</Button>
    </Form>
  );
}

test("what is refused stands beside the field that is wrong, and what was typed stays", () => {
  const { rerender } = render(<Dataset error={null} />);
  expect(screen.queryByRole("alert")).toBeNull();
  rerender(<Dataset error={new Refused(422, "zone “Mars” is none", "zone")} />);
  const said = screen.getAllByRole("alert");
  expect(said).toHaveLength(1);
  expect(screen.getByText("Zone").closest("label")?.contains(said[0])).toBe(true);
  expect(screen.getByLabelText(/^Name/)).toHaveProperty("value", "parcels");
});

test("what is refused about no field stands below all of them", () => {
  render(<Dataset error={new Refused(409, "it is there already", "elsewhere")} />);
  const said = screen.getByRole("alert");
  expect(said.textContent).toBe("it is there already");
  expect(said.closest("label")).toBeNull();
});

test("a button sends a form only where it says so", async () => {
  const sent = vi.fn((e: React.FormEvent) => e.preventDefault());
  render(
    <Form onSubmit={sent}>
      <Button>Close</Button>
      <Button type="submit">Save</Button>
    </Form>,
  );
  await userEvent.click(screen.getByText("Close"));
  expect(sent).not.toHaveBeenCalled();
  await userEvent.click(screen.getByText("Save"));
  expect(sent).toHaveBeenCalledOnce();
});

function chosen() {
  return Object.fromEntries(new FormData(screen.getByRole<HTMLFormElement>("form")));
}

test("a list is chosen from by keys alone, and its value goes with the form", async () => {
  render(
    <Form aria-label="new">
      <Field label="Period">
        <Select name="period" defaultValue="week">
          <Option>day</Option>
          <Option>week</Option>
          <Option value="m">month</Option>
        </Select>
      </Field>
    </Form>,
  );
  expect(chosen()).toEqual({ period: "week" });
  screen.getByRole("combobox").focus();
  await userEvent.keyboard("{Enter}{ArrowDown}{Enter}");
  expect(chosen()).toEqual({ period: "m" });
  expect(screen.getByRole("combobox").textContent).toContain("month");
});

test("nothing can be chosen too, and is an empty value", async () => {
  const heard = vi.fn();
  render(
    <Form aria-label="new">
      <Select name="dataset" aria-label="Dataset" onChange={heard} defaultValue="a">
        <Option value="">all datasets</Option>
        <Option>a</Option>
      </Select>
    </Form>,
  );
  screen.getByRole("combobox").focus();
  await userEvent.keyboard("{Enter}{ArrowUp}{Enter}");
  expect(heard).toHaveBeenCalledWith("");
  expect(chosen()).toEqual({ dataset: "" });
});
