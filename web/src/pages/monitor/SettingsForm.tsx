import type { Monitor, Settings } from "../../api/client";
import { Choice, Figures, Pick, Rarity, Setting } from "../../parts/Controls";
import { duration, percent } from "../../parts/words";
import { Method } from "./Method";
import { periods } from "../../parts/period";

const day = 86_400,
  year = 365 * day;
const warnings = [7 * day, 30 * day, 90 * day, year, 3 * year, 10 * year];
const criticals = [30 * day, 90 * day, year, 10 * year, 30 * year, 100 * year];

const methods = [
  ["seasonal", "level and shape, learned"],
  ["fixed", "fixed bounds"],
  ["change", "change against an earlier period"],
  ["rolling", "rolling mean or median"],
  ["zscore", "z score of the history"],
  ["modified", "modified z score (median, MAD)"],
  ["fences", "quartile fences"],
  ["siblings", "the other segments"],
  ["arrival", "arrival times of loads"],
] as const;

export const methodName = (s: Settings) => methods.find(([m]) => m === s.method)?.[1] ?? s.method;

/** The settings of a monitor; what differs from today says what today is. */
export function SettingsForm({
  monitor,
  value: s,
  onChange,
  period,
  unit,
}: {
  monitor: Monitor;
  value: Settings;
  onChange: (s: Settings) => void;
  period: number;
  unit: string;
}) {
  const t = monitor.settings;
  const set = (part: Partial<Settings>) => onChange({ ...s, ...part });
  const was = <K extends keyof Settings>(key: K, say: (v: Settings[K]) => string) =>
    JSON.stringify(s[key]) !== JSON.stringify(t[key]) ? say(t[key]) : false;
  const many = periods(period);
  const seasonal = s.method === "seasonal";
  return (
    <div>
      <Setting name="Baseline" today={was("method", () => methodName(t))}>
        <Pick
          name="Baseline"
          value={s.method}
          options={methods}
          onChange={(method) => set({ method, low: undefined, high: undefined, width: undefined })}
        />
        <Method s={s} set={set} periods={many} long={period > day} unit={unit} />
      </Setting>
      <Setting name="Direction" today={was("direction", String)}>
        <Choice
          name="Direction"
          value={s.direction}
          options={[
            ["low", "low"],
            ["high", "high"],
            ["both", "both"],
          ]}
          onChange={(direction) => set({ direction })}
        />
      </Setting>
      <Setting name="Cries wolf once in" today={was("warn_seconds", duration)}>
        <Rarity
          name="Return period of a warning"
          steps={warnings}
          value={s.warn_seconds}
          today={t.warn_seconds}
          onChange={(v) => set({ warn_seconds: v, critical_seconds: Math.max(s.critical_seconds, v) })}
        />
      </Setting>
      <Setting name="Critical from once in" today={was("critical_seconds", duration)}>
        <Rarity
          name="Return period of a critical alert"
          steps={criticals}
          value={s.critical_seconds}
          today={t.critical_seconds}
          onChange={(v) => set({ critical_seconds: v, warn_seconds: Math.min(s.warn_seconds, v) })}
        />
      </Setting>
      <Setting
        name="Quiet hours, but for critical alerts"
        today={was("quiet", (v) => v?.join(", ") || "none")}
      >
        <input
          aria-label="Quiet hours"
          className="w-full border border-ink3 bg-field px-2 py-[2px]"
          placeholder="none; for example mon-fri 22:00-06:00"
          defaultValue={s.quiet?.join(", ") ?? ""}
          key={t.quiet?.join()}
          onBlur={(e) => {
            const quiet = e.target.value
              .split(",")
              .map((h) => h.trim())
              .filter(Boolean);
            if (quiet.join() !== (s.quiet ?? []).join()) set({ quiet: quiet.length ? quiet : undefined });
          }}
        />
      </Setting>
      {s.method !== "arrival" && (
        <>
          <Setting
            name="Persistence"
            today={(was("persist", String) || was("of", String)) && `${t.persist} of ${t.of}`}
          >
            <Figures
              name="m"
              value={s.persist}
              min={1}
              onChange={(v) => set({ persist: v ?? 1, of: Math.max(s.of, v ?? 1) })}
              after="of"
            />{" "}
            <Figures
              name="n"
              value={s.of}
              min={1}
              onChange={(v) => set({ of: Math.max(v ?? 1, s.persist) })}
              after={many}
            />
          </Setting>
          {seasonal && (
            <>
              <Setting name="Sustained small shift" today={was("sustained", (v) => over[v || "long"])}>
                <Choice
                  name="Sustained small shift"
                  value={s.sustained || "long"}
                  options={[
                    ["off", "off"],
                    ["short", over.short],
                    ["long", over.long],
                  ]}
                  onChange={(v) => set({ sustained: v === "long" ? undefined : v })}
                />
              </Setting>
              <Setting
                name="Smoothed before the windows"
                today={
                  (was("smooth", String) || was("smooth_by", String)) &&
                  ((t.smooth ?? 0) > 1 ? `${t.smooth_by || "median"} of ${t.smooth}` : "not")
                }
              >
                <Choice
                  name="Smoothed by"
                  value={(s.smooth ?? 0) < 2 ? "none" : s.smooth_by || "median"}
                  options={[
                    ["none", "none"],
                    ["median", "median"],
                    ["mean", "mean"],
                  ]}
                  onChange={(v) =>
                    set({
                      smooth: v === "none" ? undefined : (s.smooth ?? 0) > 1 ? s.smooth : 3,
                      smooth_by: v === "mean" ? "mean" : undefined,
                    })
                  }
                />{" "}
                {(s.smooth ?? 0) > 1 && (
                  <Figures
                    name="Periods smoothed"
                    value={s.smooth}
                    min={2}
                    onChange={(v) => set({ smooth: v })}
                    after={many}
                  />
                )}
              </Setting>
            </>
          )}
          <Setting name="Smallest effect worth telling" today={was("min_effect", String)}>
            <Figures
              name="Smallest effect"
              value={s.min_effect || undefined}
              width={90}
              step={0.01}
              onChange={(v) => set({ min_effect: v ?? 0 })}
              after={unit}
            />
          </Setting>
          <Setting
            name="Rings at once beyond"
            today={
              (was("lowest", String) || was("highest", String)) &&
              `${t.lowest ?? "any"} to ${t.highest ?? "any"}`
            }
          >
            <Figures
              name="Lowest allowed"
              width={84}
              step={0.01}
              value={s.lowest}
              onChange={(lowest) => set({ lowest })}
              after="to"
            />{" "}
            <Figures
              name="Highest allowed"
              width={84}
              step={0.01}
              value={s.highest}
              onChange={(highest) => set({ highest })}
              after={unit}
            />
          </Setting>
          <Setting
            name="Or against an earlier value"
            today={
              (was("fall", String) || was("rise", String) || was("than", String)) &&
              `${percent(t.fall ?? 0)} below, ${percent(t.rise ?? 0)} above ` +
                than[period > day ? "previous" : t.than || "day"]
            }
          >
            <Figures
              name="Fall, percent"
              value={s.fall ? Math.round(s.fall * 1e4) / 100 : undefined}
              step={0.1}
              onChange={(v) => set({ fall: v ? v / 100 : undefined })}
              after="% below or"
            />{" "}
            <Figures
              name="Rise, percent"
              value={s.rise ? Math.round(s.rise * 1e4) / 100 : undefined}
              step={0.1}
              onChange={(v) => set({ rise: v ? v / 100 : undefined })}
              after="% above"
            />
            {(s.fall || s.rise) && (
              <div className="mt-2">
                <Choice
                  name="Than"
                  value={period > day ? "previous" : s.than || "day"}
                  options={backs.slice(0, period > day ? 1 : 3)}
                  onChange={(v) => set({ than: v === "day" ? undefined : v })}
                />
              </div>
            )}
          </Setting>
          <Setting
            name="Missing data alarms after"
            today={was("missing", (v) => (!v ? "as learned" : v < 0 ? "never" : String(v)))}
          >
            <Choice
              name="Missing data"
              value={!s.missing ? "learned" : s.missing < 0 ? "never" : "after"}
              options={[
                ["learned", "as learned"],
                ["never", "never"],
                ["after", "after"],
              ]}
              onChange={(v) => set({ missing: v === "learned" ? undefined : v === "never" ? -1 : 2 })}
            />{" "}
            {(s.missing ?? 0) > 0 && (
              <Figures
                name="Missing periods"
                value={s.missing}
                min={1}
                onChange={(v) => set({ missing: v })}
                after={many}
              />
            )}
          </Setting>
          <Setting
            name="Also tell of"
            today={
              (was("stuck_off", String) || was("silence_off", String) || was("spikes", String)) &&
              [!t.stuck_off && "stuck", !t.silence_off && "silence", t.spikes && "spikes"]
                .filter(Boolean)
                .join(", ")
            }
          >
            <div className="flex gap-4">
              <Tick
                name="stuck values"
                on={!s.stuck_off}
                set={(v) => set({ stuck_off: v ? undefined : true })}
              />
              {seasonal && (
                <Tick
                  name="silence"
                  on={!s.silence_off}
                  set={(v) => set({ silence_off: v ? undefined : true })}
                />
              )}
              <Tick name="single spikes" on={!!s.spikes} set={(v) => set({ spikes: v || undefined })} />
            </div>
          </Setting>
        </>
      )}
    </div>
  );
}

const backs = [
  ["previous", "period before"],
  ["day", "yesterday"],
  ["week", "last week"],
] as const;
const than: Record<string, string> = { previous: "the period before", day: "yesterday", week: "last week" };
const over: Record<string, string> = { off: "off", short: "over 12", long: "all lengths" };

function Tick({ name, on, set }: { name: string; on: boolean; set: (v: boolean) => void }) {
  return (
    <label className="inline-flex cursor-pointer items-center gap-[6px]">
      <input type="checkbox" checked={on} onChange={(e) => set(e.target.checked)} className="accent-ink" />
      {name}
    </label>
  );
}
