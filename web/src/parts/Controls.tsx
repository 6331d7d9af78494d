import { Select, Slider, ToggleGroup } from "radix-ui";
import type { ReactNode } from "react";
import { duration } from "./words";
import { cx } from "./cx";

/** One setting: its name, what today's is where it differs, and its control. */
export function Setting({
  name,
  today,
  children,
}: {
  name: string;
  today?: string | false;
  children: ReactNode;
}) {
  return (
    <div className="border-b border-rule py-[7px]">
      <div className="mb-[5px] flex items-baseline justify-between gap-3">
        <span className={today ? "font-[650]" : ""}>{name}</span>
        {today && <span className="text-[13px] text-ink2">today: {today}</span>}
      </div>
      {children}
    </div>
  );
}

/** What the group calls a choice: it takes an empty one for none. */
const called = (v: string) => `=${v}`;

/** A few choices side by side. */
export function Choice<T extends string>({
  name,
  value,
  options,
  onChange,
}: {
  name: string;
  value: T;
  options: readonly (readonly [T, string])[];
  onChange: (v: T) => void;
}) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={name}
      value={called(value)}
      onValueChange={(v) => v && onChange(v.slice(1) as T)}
      className="inline-flex"
    >
      {options.map(([v, label]) => (
        <ToggleGroup.Item
          key={v}
          value={called(v)}
          className={cx(
            "-ml-px border border-ink3 px-3 py-[2px] first:ml-0 data-[state=on]:border-ink",
            "data-[state=on]:bg-ink data-[state=on]:font-[650] data-[state=on]:text-ground",
          )}
        >
          {label}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

/** One of many, from a list. */
export function Pick<T extends string>({
  name,
  value,
  options,
  onChange,
  hint,
}: {
  name: string;
  value: T;
  options: readonly (readonly [T, string])[];
  onChange: (v: T) => void;
  hint?: string;
}) {
  return (
    <Select.Root value={value} onValueChange={(v) => onChange(v as T)}>
      <Select.Trigger
        className="flex w-full justify-between border border-ink3 bg-field px-3 py-[2px]"
        aria-label={name}
      >
        <Select.Value placeholder={hint} />
        <Select.Icon>▾</Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content position="popper" className="z-10 border border-ink bg-field">
          <Select.Viewport>
            {options.map(([v, label]) => (
              <Select.Item key={v} value={v} className="cursor-pointer px-3 py-1 data-[highlighted]:bg-well">
                <Select.ItemText>{label}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

/** A scale of return periods: today is a hollow circle, the proposal a brass pointer. */
export function Rarity({
  name,
  steps,
  value,
  today,
  onChange,
}: {
  name: string;
  steps: readonly number[];
  value: number;
  today: number;
  onChange: (seconds: number) => void;
}) {
  const near = (v: number) =>
    steps.reduce(
      (best, s, i) => (Math.abs(Math.log(s / v)) < Math.abs(Math.log(steps[best] / v)) ? i : best),
      0,
    );
  const at = (i: number) => `${(i / (steps.length - 1)) * 100}%`;
  return (
    <div className="mx-[12px]">
      <Slider.Root
        aria-label={name}
        min={0}
        max={steps.length - 1}
        step={1}
        value={[near(value)]}
        onValueChange={([i]) => onChange(steps[i])}
        className="relative flex h-[18px] touch-none items-center"
      >
        <Slider.Track className="relative h-px grow bg-ink2">
          {steps.map((s, i) => (
            <i key={s} className="absolute top-[-3px] h-[7px] w-px bg-ink3" style={{ left: at(i) }} />
          ))}
          <i
            className={cx(
              "absolute top-[-5px] size-[11px] -translate-x-1/2 rounded-full border-[1.5px]",
              "border-ink2 bg-ground",
            )}
            style={{ left: at(near(today)) }}
          />
        </Slider.Track>
        <Slider.Thumb className="block outline-offset-4" aria-label={name}>
          <svg width="13" height="18" viewBox="0 0 13 18" className="block">
            <path d="M1 1H12V11.5L6.5 17 1 11.5Z" fill="var(--brass-fill)" stroke="var(--ink)" />
          </svg>
        </Slider.Thumb>
      </Slider.Root>
      <div className="relative h-[17px] text-[12.5px] text-ink2">
        {steps.map((s, i) => (
          <span
            key={s}
            className={cx(
              "absolute -translate-x-1/2 whitespace-nowrap",
              i === near(value) ? "font-bold text-ink" : "",
            )}
            style={{ left: at(i) }}
          >
            {duration(s)}
          </span>
        ))}
      </div>
    </div>
  );
}

/** A small field for a number; empty is nothing. */
export function Figures({
  name,
  value,
  onChange,
  after,
  min = 0,
  step = 1,
  width = 58,
}: {
  name: string;
  value: number | undefined;
  onChange: (v: number | undefined) => void;
  after?: ReactNode;
  min?: number;
  step?: number;
  width?: number;
}) {
  return (
    <label className="inline-flex items-center gap-2">
      <input
        aria-label={name}
        type="number"
        min={min}
        step={step}
        value={value ?? ""}
        style={{ width }}
        className="border border-ink3 bg-field px-2 py-[2px]"
        onChange={(e) => onChange(e.target.value === "" ? undefined : Number(e.target.value))}
      />
      {after}
    </label>
  );
}
