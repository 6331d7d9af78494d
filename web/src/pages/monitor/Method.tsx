import type { Settings } from "../../api/client";
import { Choice, Figures } from "../../parts/Controls";

/** What only some baselines have. */
export function Method({
  s,
  set,
  periods,
  long,
  unit,
}: {
  s: Settings;
  set: (part: Partial<Settings>) => void;
  periods: string;
  /** Periods longer than a day. */
  long: boolean;
  unit: string;
}) {
  const width = (what: string, usual: number) => (
    <Figures
      name="Width"
      value={s.width || undefined}
      step={0.1}
      onChange={(v) => set({ width: v })}
      after={`${what}; empty: from the return period (usual ${usual})`}
    />
  );
  switch (s.method) {
    case "fixed":
      return (
        <div className="mt-2 flex flex-wrap gap-3">
          <Figures
            name="Lowest"
            width={84}
            step={0.01}
            value={s.low}
            onChange={(low) => set({ low })}
            after="to"
          />
          <Figures
            name="Highest"
            width={84}
            step={0.01}
            value={s.high}
            onChange={(high) => set({ high })}
            after={unit}
          />
        </div>
      );
    case "change":
      return (
        <div className="mt-2 grid gap-2">
          <Choice
            name="Against"
            value={long ? "previous" : s.against || "week"}
            options={
              long
                ? [["previous", "period before"]]
                : [
                    ["previous", "period before"],
                    ["day", "yesterday"],
                    ["week", "last week"],
                  ]
            }
            onChange={(v) => set({ against: v === "week" ? undefined : v })}
          />
          {width("of the value before", 0.5)}
        </div>
      );
    case "rolling":
      return (
        <div className="mt-2 grid gap-2">
          <Choice
            name="Centre"
            value={s.robust ? "median" : "mean"}
            options={[
              ["mean", "mean, sd"],
              ["median", "median, MAD"],
            ]}
            onChange={(v) => set({ robust: v === "median" || undefined })}
          />
          <Figures
            name="Window"
            value={s.window || undefined}
            onChange={(window) => set({ window })}
            after={`${periods} remembered; empty: a week`}
          />
          {width("spreads", 3)}
        </div>
      );
    case "siblings":
      return (
        <div className="mt-2 grid gap-2">
          <Figures
            name="Window"
            value={s.window || undefined}
            onChange={(window) => set({ window })}
            after={`${periods} remembered; empty: a week`}
          />
          {width("spreads", 3)}
        </div>
      );
    case "zscore":
      return <div className="mt-2">{width("standard deviations", 3)}</div>;
    case "modified":
      return <div className="mt-2">{width("MADs", 3.5)}</div>;
    case "fences":
      return <div className="mt-2">{width("interquartile ranges", 1.5)}</div>;
  }
  return null;
}
