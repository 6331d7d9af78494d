import { NavLink } from "react-router";
import { useAlerts, useMe } from "../api/queries";
import { useGroups } from "../api/telling";
import { useLive } from "../api/live";
import { prefetch } from "../places";
import { Glyph } from "./Glyph";
import { city, own, time } from "./words";

const places = [["/", "Now"], ["/datasets", "Datasets"], ["/alerts", "Alerts"], ["/labels", "Labels"], ["/monitors", "Monitors"], ["/incidents", "Incidents"], ["/slas", "SLAs"], ["/scorecard", "Scorecard"], ["/drift", "Drift"], ["/logs", "Logs"], ["/outlook", "Outlook"], ["/setup", "Setup"]] as const;


export function Masthead() {
  const me = useMe();
  const open = useGroups({ state: "open", limit: 200 });
  const broken = useLive();
  const shown = useZone() ?? own;
  return (
    <header className="flex h-11 items-center gap-5 border-b border-ink px-6">
      <NavLink to="/" className="plain mr-2 flex items-center gap-2 text-[18px] font-[650] tracking-[-0.012em]"><Glyph />Tin Bell</NavLink>
      <nav className="flex h-full gap-[18px] text-[15px]">
        {places.map(([to, name]) => (
          <NavLink key={to} to={to} end={to === "/"} onPointerEnter={() => prefetch(to)} onFocus={() => prefetch(to)} className={({ isActive }) => `plain relative flex h-full items-center ${isActive ? "font-bold text-ink" : "text-ink2"}`}>
            {({ isActive }) => (
              <>
                {name}
                {name === "Now" && open.data && <sup className="ml-1 text-[11px] font-semibold">{open.data.groups!.length}</sup>}
                {isActive && <i className="absolute -bottom-[4px] left-1/2 size-[7px] -translate-x-1/2 rounded-full bg-brass-mark" />}
              </>
            )}
          </NavLink>
        ))}
      </nav>
      <div className="ml-auto flex items-center gap-5 whitespace-nowrap text-[14px] text-ink2">
        <span role="status">{broken ? <span className="text-verm">Not live since {time(broken, shown, "time")}, trying again</span> : <><i className="mr-2 inline-block size-[7px] rounded-full bg-ink2 align-[1px]" />Live</>}</span>
        <span>{me.data && `${time(me.data.now, shown)} ${city(shown)}`}</span>
        <span className="text-ink">{me.data?.name}</span>
      </div>
    </header>
  );
}

/** The zone most datasets live in; pages without one of their own show it. */
export function useZone(): string | undefined {
  const open = useAlerts({ limit: 1 });
  return open.data?.alerts?.[0]?.zone;
}
