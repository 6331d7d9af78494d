import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type KeyboardEvent, useDeferredValue, useId, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, type Found } from "../api/client";
import { cx } from "./cx";
import { keyOf } from "../api/keys";
import { type Hit, ofConsole } from "./index";

const of = encodeURIComponent;

/** Where what was found is shown. */
function place(f: Found): Hit {
  const to = {
    dataset: `/datasets/${of(f.name)}`,
    monitor: `/monitors/${of(f.name)}`,
    series: `/series/${f.id}`,
    alert: `/alerts/${f.id}`,
    incident: `/incidents?find=${of(f.name)}`,
    sla: "/slas",
    comparison: `/drift/${of(f.name)}`,
    sentence: `/logs/${of(f.name)}/${f.number}`,
  }[f.kind];
  return { kind: f.kind === "sla" ? "SLA" : f.kind, name: f.name, says: f.says || f.dataset, to };
}

const kept = "tinbell-found";

/** What was gone to last, newest first. */
const recent = (): Hit[] => JSON.parse(localStorage.getItem(kept) ?? "[]") as Hit[];

function remember(h: Hit) {
  const list = [h, ...recent().filter((r) => r.to !== h.to)].slice(0, 8);
  localStorage.setItem(kept, JSON.stringify(list));
}

/** Finds what has all the words typed; the arrows choose, Enter goes there. */
export function Find({ close }: { close: () => void }) {
  const go = useNavigate();
  const [words, setWords] = useState("");
  const [chosen, choose] = useState(0);
  const asked = useDeferredValue(words.trim());
  const list = useId();
  const found = useQuery({
    queryKey: keyOf("find", asked),
    enabled: asked.length > 1,
    placeholderData: (before) => before,
    queryFn: () => answer(api.GET("/api/v1/find", { params: { query: { words: asked } } })),
  });
  const hits = asked === "" ? recent() : [...ofConsole(asked).slice(0, 5), ...(found.data ?? []).map(place)];
  const at = Math.min(chosen, hits.length - 1);
  const open = (h: Hit | undefined) => {
    if (!h) return;
    remember(h);
    close();
    void go(h.to);
  };
  const press = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) choose(Math.max(0, Math.min(at + step, hits.length - 1)));
    else if (e.key === "Enter") open(hits[at]);
    else return;
    e.preventDefault();
  };
  return (
    <Dialog.Root open onOpenChange={(v) => !v && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-ink/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className={cx(
            "fixed top-[9vh] left-1/2 z-20 w-[680px] max-w-[96vw] -translate-x-1/2",
            "border border-ink bg-ground p-4",
          )}
        >
          <Dialog.Title className="text-[13px] text-ink2">Find, by words</Dialog.Title>
          <input
            autoFocus
            role="combobox"
            aria-expanded={hits.length > 0}
            aria-controls={list}
            aria-activedescendant={hits.length > 0 ? `${list}-${at}` : undefined}
            aria-label="Find, by words"
            placeholder="gullstone, boarding volume, VF-006, connection refused"
            className="mt-1 w-full border border-ink3 bg-field px-3 py-[7px] text-[17px]"
            value={words}
            onChange={(e) => {
              setWords(e.target.value);
              choose(0);
            }}
            onKeyDown={press}
          />
          <ul id={list} role="listbox" aria-label="Found" className="mt-2 max-h-[62vh] overflow-y-auto">
            {hits.map((h, i) => (
              <li
                key={`${h.kind} ${h.to} ${h.name}`}
                id={`${list}-${i}`}
                role="option"
                aria-selected={i === at}
                ref={(e) => {
                  if (i === at) e?.scrollIntoView?.({ block: "nearest" });
                }}
                className={cx(
                  "grid cursor-pointer grid-cols-[92px_minmax(0,1fr)] gap-3 px-2 py-[5px]",
                  i === at && "bg-well",
                )}
                onPointerEnter={() => choose(i)}
                onClick={() => open(h)}
              >
                <span className="text-ink2">{h.kind}</span>
                <span className="overflow-hidden text-ellipsis whitespace-nowrap">
                  <b className="font-semibold">{h.name}</b>
                  <span className="ml-2 text-ink2">{h.says}</span>
                </span>
              </li>
            ))}
          </ul>
          <p role="status" className="mt-1 px-2 text-[13px] text-ink2">
            {asked === ""
              ? hits.length > 0
                ? "Where you went last."
                : "Pages, what can be done and set, datasets, monitors, series, alerts, incidents, sentences."
              : found.error
                ? `Only the console itself was looked through: ${found.error.message}.`
                : hits.length === 0 && !found.isFetching
                  ? "Nothing has all of these words."
                  : ""}
          </p>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
