import { useState } from "react";
import type { Channel } from "../../api/client";
import {
  useChannels,
  useDropChannel,
  useMessages,
  useRetry,
  useRotate,
  useRoutes,
  useTestChannel,
} from "../../api/telling";
import { Choice } from "../../parts/Controls";
import { useZone } from "../../parts/zone";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { time, word } from "../../parts/words";
import { Messages } from "../../parts/Messages";
import { Places } from "./Places";
import { Button, Refusal } from "../../parts/Form";
import { useNow } from "../../api/queries";
import { Sure } from "../../parts/Ask";
import { Routes, AddRoute } from "./Routes";
import { AddChannel } from "./AddChannel";

/** Who is told of what: channels, routes, and what was said. */
export function TellingPage() {
  const channels = useChannels(),
    routes = useRoutes();
  const [state, setState] = useState<"" | "waiting" | "failed">("");
  const messages = useMessages({ limit: 60, ...(state && { state }) });
  const zone = useZone() ?? "UTC";
  const list = channels.data ?? [],
    failing = list.filter((c) => c.failing_since && !c.paused);
  const sentence =
    !channels.data || !routes.data
      ? ""
      : list.length === 0
        ? "Nobody is told: add a channel, then a route to it."
        : routes.data.length === 0
          ? "Nobody is told: no route leads to a channel."
          : failing.length > 0
            ? `${failing.map((c) => c.name).join(" and ")} cannot be reached; what is to be said waits.`
            : `${word(list.length)} ${list.length === 1 ? "channel is" : "channels are"} told ` +
              `along ${word(routes.data.length).toLowerCase()} ` +
              `${routes.data.length === 1 ? "route" : "routes"}, and all can be reached.`;
  return (
    <Page
      place={<Places here="telling" />}
      sentence={sentence}
      after={
        "One message for one fault: alerts of one cause are told together, once, and " +
        "until it has arrived."
      }
    >
      <Trouble what="Channels" error={channels.error} />
      {channels.isPending && <Reading what="channels" />}
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_340px] gap-8">
        <div className="grid content-start gap-6">
          <Section title="Channels" note="where messages go">
            {list.map((c) => (
              <One key={c.id} c={c} />
            ))}
          </Section>
          <Routes />
        </div>
        <div className="grid content-start gap-6">
          <AddChannel />
          {list.length > 0 && <AddRoute channels={list} zone={zone} />}
        </div>
      </div>
      <Section
        className="mt-6"
        title="Messages"
        note="what was and is to be sent, newest first"
        right={
          <Choice
            name="State"
            value={state}
            options={[
              ["", "all"],
              ["waiting", "waiting"],
              ["failed", "failed"],
            ]}
            onChange={setState}
          />
        }
      >
        <Messages list={messages.data ?? []} zone={zone} none="No such message." />
      </Section>
    </Page>
  );
}

function One({ c }: { c: Channel }) {
  const now = useNow();
  const test = useTestChannel(),
    rotate = useRotate(),
    drop = useDropChannel(),
    retry = useRetry();
  const where = c.kind === "email" ? (c.settings.to ?? []).join(", ") : c.settings.url;
  const tried = test.data,
    wrong = test.error ?? rotate.error ?? drop.error ?? retry.error;
  return (
    <article data-channel={c.name} className="border-b border-rule py-[8px] last:border-0">
      <div className="flex items-baseline justify-between gap-4">
        <span>
          <b className="text-[15px] font-[650]">{c.name}</b>{" "}
          <span className="text-ink2">
            {c.kind === "email" ? "e-mail to" : `webhook, ${c.settings.form || "cloudevent"}, to`}
          </span>{" "}
          {c.kind === "email" ? where : <code className="break-all">{where}</code>}
        </span>
        <span className="flex gap-4 whitespace-nowrap">
          <Button look="text" disabled={test.isPending} onClick={() => test.mutate(c.name)}>
            {test.isPending ? "sending" : "send a test"}
          </Button>
          {c.kind === "webhook" && (
            <Button look="text" onClick={() => rotate.mutate(c.name)}>
              new secret
            </Button>
          )}
          <Sure
            asks={`Remove the channel ${c.name}?`}
            says="Its routes and messages go with it. This cannot be taken back."
            does="Remove it"
            act={() => drop.mutate(c.name)}
          >
            remove
          </Sure>
        </span>
      </div>
      <div className="mt-[2px] text-ink2">
        {c.paused ? (
          "paused: what is to be said waits"
        ) : c.failing_since ? (
          <span className="text-verm">
            <Mark state="failed" word="not reached" /> since {time(c.failing_since, "UTC", "short")} UTC:{" "}
            {c.message}{" "}
            <Button look="text" onClick={() => retry.mutate(c.name)}>
              try now
            </Button>
          </span>
        ) : (
          "reached"
        )}
        ; at most {c.hourly_limit} an hour, what is beyond as one summary
        {c.header_names.length > 0 && `; sent with ${c.header_names.join(", ")}`}
        {c.old_until &&
          Date.parse(c.old_until) > now &&
          `; signed with the secret before as well until ${time(c.old_until, "UTC", "short")} UTC`}
      </div>
      {tried && (
        <p role="status" className={tried.state === "sent" ? "text-ink2" : "text-verm"}>
          {tried.state === "sent" ? "The test has arrived." : `The test did not arrive: ${tried.error}`}
        </p>
      )}
      {rotate.data && (
        <p role="status">
          Its new secret, shown once: <code className="select-all">{rotate.data.secret}</code>
        </p>
      )}
      <Refusal error={wrong} />
    </article>
  );
}
