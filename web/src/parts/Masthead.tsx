import { useState } from "react";
import { NavLink } from "react-router";
import { useMe } from "../api/queries";
import { useGroups } from "../api/telling";
import { useLive } from "../api/live";
import { Glyph } from "./Glyph";
import { Key, useKeys } from "./keys";
import { later } from "./later";
import { city, time } from "./words";
import { type Clocks, setClocks } from "./zone";
import { cx } from "./cx";

const Find = later(() => import("./Find").then((m) => m.Find));

const places = [
  ["/", "Now"],
  ["/datasets", "Datasets"],
  ["/alerts", "Alerts"],
  ["/labels", "Labels"],
  ["/monitors", "Monitors"],
  ["/incidents", "Incidents"],
  ["/slas", "SLAs"],
  ["/scorecard", "Scorecard"],
  ["/drift", "Drift"],
  ["/logs", "Logs"],
  ["/outlook", "Outlook"],
  ["/setup", "Setup"],
] as const;

const next: Record<Clocks, Clocks> = { datasets: "mine", mine: "utc", utc: "datasets" };
const whose: Record<Clocks, string> = {
  datasets: "the datasets' clocks",
  mine: "your own clocks",
  utc: "UTC",
};

export function Masthead({ clocks, zone }: { clocks: Clocks; zone: string }) {
  const me = useMe();
  const open = useGroups({ state: "open", limit: 200 });
  const broken = useLive();
  const [finding, setFinding] = useState(false);
  useKeys({ "/": { does: "find", act: () => setFinding(true) } });
  return (
    <>
      <header className="flex min-h-11 flex-wrap items-center gap-x-4 border-b border-ink px-6 max-md:px-3">
        <NavLink
          to="/"
          className="plain mr-2 flex items-center gap-2 text-[18px] font-[650] tracking-[-0.012em]"
        >
          <Glyph />
          Tin Bell
        </NavLink>
        <nav
          className={cx(
            "flex h-11 gap-[15px] 2xl:gap-[18px] text-[15px] max-xl:order-last max-xl:w-full",
            "max-xl:overflow-x-auto max-xl:pb-[4px]",
          )}
          aria-label="Places"
        >
          {places.map(([to, name]) => (
            <NavLink
              key={to}
              to={to}
              end={to === "/"}
              className={({ isActive }) =>
                `plain relative flex h-full items-center ${isActive ? "font-bold text-ink" : "text-ink2"}`
              }
            >
              {({ isActive }) => (
                <>
                  {name}
                  {name === "Now" && open.data && (
                    <sup className="ml-1 text-[11px] font-semibold">{open.data.groups.length}</sup>
                  )}
                  {isActive && (
                    <i
                      className={cx(
                        "absolute -bottom-[4px] left-1/2 size-[7px] -translate-x-1/2",
                        "rounded-full bg-brass-mark",
                      )}
                    />
                  )}
                </>
              )}
            </NavLink>
          ))}
        </nav>
        <button
          type="button"
          className="ml-auto text-[14px] text-ink2"
          aria-haspopup="dialog"
          onClick={() => setFinding(true)}
        >
          <Key name="/" />
          Find
        </button>
        <div className="flex items-center gap-4 whitespace-nowrap text-[14px] text-ink2">
          <span role="status">
            {broken ? (
              <span className="text-verm">Not live since {time(broken, zone, "time")}, trying again</span>
            ) : (
              <>
                <i className="mr-2 inline-block size-[7px] rounded-full bg-ink2 align-[1px]" />
                Live
              </>
            )}
          </span>
          {me.data && (
            <button
              type="button"
              title={`Times are written by ${whose[clocks]}; press for ${whose[next[clocks]]}`}
              onClick={() => setClocks(next[clocks])}
            >
              {time(me.data.now, zone)} {city(zone)}
            </button>
          )}
          <NavLink to="/you" className="plain text-ink">
            {me.data?.name}
          </NavLink>
        </div>
      </header>
      {finding && <Find close={() => setFinding(false)} />}
      {me.data?.shows_only && (
        <p role="alert" className="border-b border-verm px-6 py-1 text-verm">
          Nothing can be changed, and nothing is measured: {me.data.shows_only}.
        </p>
      )}
    </>
  );
}
