import { useState } from "react";
import type { Settings } from "../../api/client";
import { Choice, Figures, Setting } from "../../parts/Controls";
import { Section } from "../../parts/Page";
import { count, duration, number } from "../../parts/words";
import { Button, field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";

type Own = NonNullable<Settings["segments"]>[number];

const day = 86_400,
  year = 365 * day;
const rarities = [
  [0, "the monitor's"],
  [7 * day, "a week"],
  [30 * day, "30 days"],
  [90 * day, "90 days"],
  [year, "a year"],
  [10 * year, "ten years"],
] as const;

/** What differs for a segment, in words. */
export function differs(v: Own): string {
  const said = [
    v.muted && "muted",
    v.warn_seconds && `once in ${duration(v.warn_seconds)}`,
    v.direction,
    v.persist && `${v.persist} of ${v.of ?? v.persist}`,
    v.lowest !== undefined && `at least ${number(v.lowest)}`,
    v.highest !== undefined && `at most ${number(v.highest)}`,
    v.fall && `falls by ${number(100 * v.fall)} %`,
    v.rise && `rises by ${number(100 * v.rise)} %`,
    v.min_effect !== undefined && `effect of ${number(v.min_effect)}`,
    v.owner && `owner ${v.owner}`,
  ].filter(Boolean);
  return said.join(", ") || "as the monitor";
}

/** The segments that have settings of their own, changed in the draft like all others. */
export function Segments({
  settings,
  onChange,
  known,
  unit,
  today,
}: {
  settings: Settings;
  onChange: (s: Settings) => void;
  known: string[];
  unit: string;
  today: Settings;
}) {
  const [open, setOpen] = useState<string | null>(null);
  const [adding, setAdding] = useState("");
  const list = settings.segments ?? [];
  const put = (segments: Own[]) =>
    onChange({ ...settings, segments: segments.length > 0 ? segments : undefined });
  const set = (segment: string, part: Partial<Own>) =>
    put(list.map((v) => (v.segment === segment ? { ...v, ...part } : v)));
  const add = () => {
    const segment = adding.trim();
    if (segment === "") return;
    if (!list.some((v) => v.segment === segment)) put([...list, { segment }]);
    setOpen(segment);
    setAdding("");
  };
  if (known.length < 2 && list.length === 0) return null;
  const was = (v: Own) => today.segments?.find((o) => o.segment === v.segment);
  return (
    <Section
      title="Segments"
      right={list.length > 0 ? count(list.length, "of its own", "of their own") : "all alike"}
      className="mt-4"
    >
      {list.map((v) => (
        <div key={v.segment} className="border-t border-hair py-[6px]">
          <div className="flex justify-between gap-3">
            <button
              className="text-left font-[650]"
              aria-expanded={open === v.segment}
              onClick={() => setOpen(open === v.segment ? null : v.segment)}
            >
              {v.segment}
            </button>
            <Button look="text" className="text-[13px]" onClick={() => put(list.filter((o) => o !== v))}>
              take away
            </Button>
          </div>
          <p className="text-[13px] text-ink2">
            {differs(v)}
            {JSON.stringify(was(v)) !== JSON.stringify(v) && (
              <b className="font-[650] text-brass-text"> {was(v) ? "changed" : "new"}</b>
            )}
          </p>
          {v.note && <p className="text-[13px] text-ink2">“{v.note}”</p>}
          {open === v.segment && <Form v={v} set={(part) => set(v.segment, part)} unit={unit} />}
        </div>
      ))}
      <div className="mt-2 flex gap-2">
        <input
          aria-label="Segment or pattern"
          list="segments-known"
          className={field}
          placeholder="a segment, or * in a pattern"
          value={adding}
          onChange={(e) => setAdding(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && add()}
        />
        <datalist id="segments-known">
          {known.map((s) => (
            <option key={s} value={s} />
          ))}
        </datalist>
        <Button disabled={adding.trim() === ""} onClick={add}>
          Add
        </Button>
      </div>
    </Section>
  );
}

function Form({ v, set, unit }: { v: Own; set: (part: Partial<Own>) => void; unit: string }) {
  return (
    <div className="mt-1">
      <label className="flex cursor-pointer items-center gap-[6px] py-1">
        <input
          type="checkbox"
          className="accent-ink"
          checked={!!v.muted}
          onChange={(e) => set({ muted: e.target.checked || undefined })}
        />
        muted: a band, and never an alert
      </label>
      <Setting name="Cries wolf once in, by itself">
        <Select
          aria-label="Return period of the segment"
          className="w-full"
          value={v.warn_seconds ?? 0}
          onChange={(v) => set({ warn_seconds: Number(v) || undefined })}
        >
          {rarities.map(([s, name]) => (
            <Option key={s} value={s}>
              {name}
            </Option>
          ))}
          {v.warn_seconds && !rarities.some(([s]) => s === v.warn_seconds) ? (
            <Option value={v.warn_seconds}>{duration(v.warn_seconds)}</Option>
          ) : null}
        </Select>
      </Setting>
      <Setting name="Direction">
        <Choice
          name="Direction of the segment"
          value={v.direction || "as"}
          options={[
            ["as", "the monitor's"],
            ["low", "low"],
            ["high", "high"],
            ["both", "both"],
          ]}
          onChange={(d) => set({ direction: d === "as" ? undefined : d })}
        />
      </Setting>
      <Setting name="Rings at once beyond">
        <Figures
          name="Lowest of the segment"
          width={80}
          step={0.01}
          value={v.lowest}
          onChange={(lowest) => set({ lowest })}
          after="to"
        />{" "}
        <Figures
          name="Highest of the segment"
          width={80}
          step={0.01}
          value={v.highest}
          onChange={(highest) => set({ highest })}
          after={unit}
        />
      </Setting>
      <Setting name="Smallest effect worth telling">
        <Figures
          name="Smallest effect of the segment"
          width={90}
          step={0.01}
          value={v.min_effect}
          onChange={(min_effect) => set({ min_effect })}
          after={unit}
        />
      </Setting>
      <Setting name="Owner of its alerts">
        <input
          aria-label="Owner of the segment"
          className={field}
          defaultValue={v.owner ?? ""}
          onBlur={(e) => e.target.value !== (v.owner ?? "") && set({ owner: e.target.value || undefined })}
        />
      </Setting>
      <Setting name="Why">
        <input
          aria-label="Why"
          className={field}
          defaultValue={v.note ?? ""}
          onBlur={(e) => e.target.value !== (v.note ?? "") && set({ note: e.target.value || undefined })}
        />
      </Setting>
    </div>
  );
}
