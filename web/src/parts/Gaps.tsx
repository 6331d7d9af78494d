import { useSearchParams } from "react-router";
import type { Chart } from "../api/client";
import type { Fill } from "../api/queries";
import { Option, Select } from "./Select";

const ways = [
  ["none", "left open"],
  ["zero", "filled with zero"],
  ["previous", "filled with the value before"],
  ["linear", "filled by a line"],
] as const;

/** What stands where nothing came, by the address of the page. */
export function useFill(): [Fill, (fill: Fill) => void] {
  const [search, setSearch] = useSearchParams();
  const set = (fill: Fill) =>
    setSearch(
      (s) => {
        if (fill === "none") s.delete("fill");
        else s.set("fill", fill);
        return s;
      },
      { replace: true },
    );
  return [(search.get("fill") as Fill) ?? "none", set];
}

/** Whether something that was due did not come. */
export const hasGaps = (c: Chart, now: number) =>
  c.filled?.some(Boolean) ||
  c.observed.some((v, i) => v === null && Date.parse(c.at[i]) < now - 2000 * c.period_seconds);

export function Gaps({ fill, onFill }: { fill: Fill; onFill: (fill: Fill) => void }) {
  return (
    <label className="text-[13px] text-ink2">
      Gaps are{" "}
      <Select aria-label="Gaps" value={fill} onChange={(v) => onFill(v as Fill)}>
        {ways.map(([v, name]) => (
          <Option key={v} value={v}>
            {name}
          </Option>
        ))}
      </Select>
    </label>
  );
}
