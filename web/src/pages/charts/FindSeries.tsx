import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { answer, api } from "../../api/client";
import { box, Field } from "../../parts/Form";
import { keyOf } from "../../api/keys";

/** A field that finds series by words; one that is pressed is chosen. */
export function FindSeries({ label, choose }: { label: string; choose: (id: number) => void }) {
  const [words, setWords] = useState("");
  const asked = useDeferredValue(words.trim());
  const found = useQuery({
    queryKey: keyOf("find", "series", asked),
    enabled: asked.length > 1,
    queryFn: () => answer(api.GET("/api/v1/find", { params: { query: { words: asked, limit: 200 } } })),
  });
  const list = (found.data ?? []).filter((f) => f.kind === "series").slice(0, 8);
  return (
    <div className="relative">
      <Field label={label}>
        <input
          type="search"
          className={`${box} w-64`}
          placeholder="boarding scans gullstone"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
      </Field>
      {asked.length > 1 && (
        <ul className="absolute z-10 w-80 border border-ink bg-field">
          {list.map((f) => (
            <li key={f.id}>
              <button
                type="button"
                className="block w-full px-3 py-1 text-left hover:bg-well"
                onClick={() => {
                  choose(f.id);
                  setWords("");
                }}
              >
                {f.name} <span className="text-ink2">{f.dataset}</span>
              </button>
            </li>
          ))}
          {found.data && list.length === 0 && (
            <li className="px-3 py-1 text-ink2">No series has all of these words.</li>
          )}
        </ul>
      )}
    </div>
  );
}
