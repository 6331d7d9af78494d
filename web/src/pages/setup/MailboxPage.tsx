import { useSearchParams } from "react-router";
import { useLetter, useMailbox } from "../../api/telling";
import { useZone } from "../../parts/zone";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, time } from "../../parts/words";
import { Places } from "./Places";
import { cx } from "../../parts/cx";

/** What the demo's mail server and webhook receiver got. */
export function MailboxPage() {
  const mailbox = useMailbox();
  const zone = useZone() ?? "UTC";
  const [search, setSearch] = useSearchParams();
  const list = mailbox.data ?? [];
  const chosen = Number(search.get("letter")) || list[0]?.id;
  const letter = useLetter(chosen);
  const at = list.findIndex((l) => l.id === chosen);
  const step = (by: number) => list[at + by] && setSearch({ letter: String(list[at + by].id) });
  const keys = { J: { does: "next", act: () => step(1) }, K: { does: "before", act: () => step(-1) } };
  const mails = list.filter((l) => l.through === "email").length;
  const twice = list.filter((l) => l.times > 1).length;
  return (
    <Page
      place={<Places here="mailbox" />}
      keys={keys}
      sentence={
        mailbox.error
          ? "There is no mailbox here."
          : !mailbox.data
            ? ""
            : list.length === 0
              ? "Nothing has come yet."
              : `${count(mails, "e-mail")} and ${count(list.length - mails, "webhook")} have ` +
                "come; " +
                (twice === 0
                  ? "none came twice"
                  : `${twice === 1 ? "one" : `${twice} of them`} came again under the same key`) +
                "."
      }
      after="The demo's mail server and webhook receiver stand in for yours, and keep what they get."
    >
      <Trouble what="The mailbox" error={mailbox.error} />
      {mailbox.isPending && <Reading what="the mailbox" />}
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[430px_minmax(0,1fr)] gap-7">
        <Section title="What came" note="newest first" right={`${list.length}`}>
          <div className="max-h-[640px] overflow-auto">
            {list.map((l) => (
              <button
                key={l.id}
                aria-pressed={l.id === chosen}
                onClick={() => setSearch({ letter: String(l.id) })}
                className={cx(
                  "block w-full border-b border-hair py-[6px] pr-2 text-left",
                  l.id === chosen ? "bg-well pl-2" : "",
                )}
              >
                <span className="block truncate font-semibold">{l.subject}</span>
                <span className="flex justify-between text-[13px] text-ink2">
                  <span>
                    {l.through === "email" ? "e-mail" : "webhook"} to {l.to}
                    {l.signature && `, signature ${l.signature}`}
                    {l.times > 1 && `, ${l.times} times`}
                  </span>
                  <span>{time(l.at, zone, "short")}</span>
                </span>
              </button>
            ))}
            {mailbox.data && list.length === 0 && (
              <p className="mt-2 text-ink2">
                Break something: <code>tinbell demo break stall raw.gate_events</code>
              </p>
            )}
          </div>
        </Section>
        <Section title="As it came" note={letter.data?.key}>
          {letter.data?.html ? (
            <iframe
              title="letter"
              sandbox=""
              srcDoc={letter.data.html.replaceAll(
                "cid:chart.png",
                `data:image/png;base64,${letter.data.picture ?? ""}`,
              )}
              className="mt-2 h-[640px] w-full border border-rule bg-white"
            />
          ) : (
            letter.data && (
              <pre
                tabIndex={0}
                className={cx(
                  "mt-2 max-h-[640px] overflow-auto border border-rule bg-field p-3",
                  "font-mono text-[12px] leading-[17px] whitespace-pre-wrap",
                )}
              >
                {pretty(letter.data.text)}
              </pre>
            )
          )}
        </Section>
      </div>
    </Page>
  );
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
