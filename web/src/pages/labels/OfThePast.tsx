import { Link } from "react-router";
import { useFirstOfPast } from "../../api/learning";
import { useMonitors } from "../../api/queries";
import { Section } from "../../parts/Page";
import { count } from "../../parts/words";

/** How many monitors are looked through for one whose past has something to ask. */
const most = 4;

/**
 * What the past of a monitor asks, the newest monitor first: answers there move limits more than those to
 * alerts do.
 */
export function OfThePast() {
  const monitors = useMonitors();
  const learned = (monitors.data ?? [])
    .filter((m) => m.settings.method === "seasonal" && m.learned_at && !m.paused)
    .sort((a, b) => Date.parse(b.created_at) - Date.parse(a.created_at) || (a.name < b.name ? -1 : 1));
  return <First names={learned.slice(0, most).map((m) => m.name)} />;
}

/** The first of the monitors that has a question. */
function First({ names: [name, ...others] }: { names: string[] }) {
  const past = useFirstOfPast(name);
  const list = past.data?.questions;
  if (!name || !list) return null;
  if (!list[0]) return <First names={others} />;
  return (
    <Section title="Of the past" right={<code>{name}</code>} className="mt-6">
      <p className="mt-2" data-past={name}>
        {list[0].sentence}
      </p>
      <Link to={`/monitors/${name}/past`}>Answer {count(list.length, "question")} about it</Link>
    </Section>
  );
}
