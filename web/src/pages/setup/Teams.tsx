import { type FormEvent, useState } from "react";
import type { Role, Team } from "../../api/client";
import { usePutTeam, useRemoveTeam, useTeams } from "../../api/people";
import { Pick } from "../../parts/Controls";
import { Section, Trouble } from "../../parts/Page";
import { everywhere, patterns, roles } from "./roles";
import { Button, Field, Form, field } from "../../parts/Form";
import { type Column, Table } from "../../parts/Table";
import { Sure } from "../../parts/Ask";

type Shown<T, K extends keyof T> = { [P in K]: T[P] };

const empty = { name: "", role: "responder" as Role, datasets: [] as string[], members: [] as string[] };

const columns: Column<Team>[] = [
  { id: "team", head: "team", fixed: true, by: (t) => t.name, cell: (t) => t.name },
  { id: "gives", head: "gives", by: (t) => t.role, cell: (t) => t.role },
  { id: "in", head: "in", by: (t) => everywhere(t.datasets), cell: (t) => everywhere(t.datasets) },
  { id: "to", head: "to", by: (t) => t.members.join(), cell: (t) => t.members.join(", ") || "nobody yet" },
];

/** Teams give their members a role, in all datasets or some. */
export function Teams() {
  const teams = useTeams();
  const list = teams.data ?? [];
  const [open, setOpen] = useState<Shown<Team, "name" | "role" | "datasets" | "members">>();
  return (
    <Section title="Teams" note="each gives its members a role, beside their own" className="mt-8 pb-10">
      <Trouble what="Teams" error={teams.error} />
      {teams.data?.length === 0 && <p className="mt-1 text-ink2">No team yet.</p>}
      {list.length > 0 && (
        <Table
          name="teams"
          words={(t) => [t.name, t.role, ...t.datasets, ...t.members].join(" ")}
          columns={columns}
          rows={list}
          id={(t) => t.id}
          after={(t) => (
            <Button look="text" aria-label={`Change ${t.name}`} onClick={() => setOpen(t)}>
              change
            </Button>
          )}
        />
      )}
      {open ? (
        <Change key={open.name} of={open} done={() => setOpen(undefined)} />
      ) : (
        <Button look="text" className="mt-3" onClick={() => setOpen(empty)}>
          New team
        </Button>
      )}
    </Section>
  );
}

function Change({
  of,
  done,
}: {
  of: Shown<Team, "name" | "role" | "datasets" | "members">;
  done: () => void;
}) {
  const put = usePutTeam(),
    remove = useRemoveTeam();
  const [name, setName] = useState(of.name),
    [role, setRole] = useState<Role>(of.role),
    [where, setWhere] = useState(of.datasets.join(", ")),
    [who, setWho] = useState(of.members.join(", "));
  const wrong = put.error ?? remove.error;
  const save = (e: FormEvent) => {
    e.preventDefault();
    put.mutate(
      { name: name.trim(), role, datasets: patterns(where), members: patterns(who) },
      { onSuccess: done },
    );
  };
  return (
    <Form
      error={wrong}
      onSubmit={save}
      className="mt-3 grid grid-cols-4 items-end gap-4 border border-hair bg-well p-4"
    >
      <Field label="Team">
        <input
          className={field}
          value={name}
          disabled={of.name !== ""}
          onChange={(e) => setName(e.target.value)}
        />
      </Field>
      <div className="text-[13px] text-ink2">
        Gives
        <Pick
          name="Role that the team gives"
          value={role}
          options={roles.map(([r, label]) => [r, label] as const)}
          onChange={setRole}
        />
      </div>
      <Field label="In: raw.*, tag:harbour; empty for all">
        <input className={field} value={where} onChange={(e) => setWhere(e.target.value)} />
      </Field>
      <Field label="Members, with commas between them">
        <input className={field} value={who} onChange={(e) => setWho(e.target.value)} />
      </Field>
      <div className="col-span-4 flex gap-4">
        <Button type="submit" disabled={name.trim() === "" || put.isPending}>
          Save
        </Button>
        <button type="button" onClick={done}>
          cancel
        </button>
        {of.name !== "" && (
          <span className="ml-auto">
            <Sure
              asks={`Remove the team ${of.name}?`}
              says="Its members keep what they have otherwise."
              does="Remove it"
              act={() => remove.mutate(of.name, { onSuccess: done })}
            >
              remove the team
            </Sure>
          </span>
        )}
      </div>
    </Form>
  );
}
