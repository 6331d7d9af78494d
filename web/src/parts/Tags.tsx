import { useId, useState } from "react";
import { Link } from "react-router";
import { useTagging, useTags } from "../api/tags";
import { Button } from "./Form";

/** The tags of a thing, those that it has by its dataset or metric first; add one, take one off. */
export function Tags({
  kind,
  name,
  tags,
  inherited = [],
}: {
  kind: "datasets" | "metrics" | "monitors";
  name: string;
  tags: string[];
  inherited?: string[];
}) {
  const known = useTags(),
    set = useTagging(kind, name),
    id = useId();
  const [typed, setTyped] = useState<string | null>(null);
  const add = () =>
    typed?.trim()
      ? set.mutate({ tag: typed.trim(), off: false }, { onSuccess: () => setTyped(null) })
      : setTyped(null);
  const shown = (tag: string) => <Link to={`/tags/${encodeURIComponent(tag)}`}>{tag}</Link>;
  return (
    <span className="inline-flex flex-wrap items-baseline gap-x-3 gap-y-1 text-[13px]" data-tags={name}>
      <span className="text-ink2">{tags.length + inherited.length === 0 ? "no tag" : "tagged"}</span>
      {inherited
        .filter((t) => !tags.includes(t))
        .map((t) => (
          <span key={t} title="by its dataset or metric">
            {shown(t)}
          </span>
        ))}
      {tags.map((t) => (
        <span key={t} className="whitespace-nowrap">
          {shown(t)}
          <button
            className="ml-1 text-ink3"
            aria-label={`take the tag ${t} off`}
            onClick={() => set.mutate({ tag: t, off: true })}
          >
            ×
          </button>
        </span>
      ))}
      {typed === null ? (
        <Button look="text" onClick={() => setTyped("")}>
          add a tag
        </Button>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            add();
          }}
        >
          <input
            aria-label="Tag"
            autoFocus
            list={id}
            value={typed}
            className="w-32 border border-ink3 bg-field px-2 py-[1px]"
            onChange={(e) => setTyped(e.target.value)}
            onBlur={() => !typed && setTyped(null)}
            onKeyDown={(e) => e.key === "Escape" && setTyped(null)}
          />
          <datalist id={id}>
            {(known.data ?? []).map((t) => (
              <option key={t.name} value={t.name} />
            ))}
          </datalist>
        </form>
      )}
      {set.error && (
        <span role="alert" className="text-verm">
          {set.error.message}
        </span>
      )}
    </span>
  );
}
