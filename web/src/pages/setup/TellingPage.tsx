import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Channel, NewChannel } from "../../api/client";
import { useChannels, useDropChannel, useDropRoute, useMessages, useRetry, useRotate, useRoutes, useSetChannel, useSetRoute, useTestChannel } from "../../api/telling";
import { Choice } from "../../parts/Controls";
import { useZone } from "../../parts/Masthead";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, duration, time, word } from "../../parts/words";
import { Messages } from "../GroupPage";
import { Places } from "./Places";

const field = "w-full border border-ink3 bg-field px-2 py-[4px]";
const link = "underline decoration-pewter-line underline-offset-3";

/** Who is told of what: channels, routes, and what was said. */
export function TellingPage() {
  const channels = useChannels(), routes = useRoutes();
  const [state, setState] = useState<"" | "waiting" | "failed">("");
  const messages = useMessages({ limit: 60, ...(state && { state }) });
  const zone = useZone() ?? "UTC";
  const list = channels.data ?? [], failing = list.filter((c) => c.failing_since && !c.paused);
  const sentence = !channels.data || !routes.data ? "" : list.length === 0 ? "Nobody is told: add a channel, then a route to it."
    : routes.data.length === 0 ? "Nobody is told: no route leads to a channel."
    : failing.length > 0 ? `${failing.map((c) => c.name).join(" and ")} cannot be reached; what is to be said waits.` : `${word(list.length)} ${list.length === 1 ? "channel is" : "channels are"} told along ${word(routes.data.length).toLowerCase()} ${routes.data.length === 1 ? "route" : "routes"}, and all can be reached.`;
  return (
    <Page place={<Places here="telling" />} sentence={sentence} after="One message for one fault: alerts of one cause are told together, once, and until it has arrived.">
      <Trouble what="Channels" error={channels.error} />
      {channels.isPending && <Reading what="channels" />}
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)_340px] gap-8">
        <div className="grid content-start gap-6">
          <Section title="Channels" note="where messages go">{list.map((c) => <One key={c.id} c={c} />)}</Section>
          <Routes />
        </div>
        <div className="grid content-start gap-6">
          <AddChannel />
          {list.length > 0 && <AddRoute channels={list} zone={zone} />}
        </div>
      </div>
      <Section className="mt-6" title="Messages" note="what was and is to be sent, newest first" right={<Choice name="State" value={state} options={[["", "all"], ["waiting", "waiting"], ["failed", "failed"]]} onChange={setState} />}>
        <Messages list={messages.data ?? []} zone={zone} none="No such message." />
      </Section>
    </Page>
  );
}

function One({ c }: { c: Channel }) {
  const test = useTestChannel(), rotate = useRotate(), drop = useDropChannel(), retry = useRetry();
  const where = c.kind === "email" ? (c.settings.to ?? []).join(", ") : c.settings.url;
  const tried = test.data, wrong = test.error ?? rotate.error ?? drop.error ?? retry.error;
  return (
    <article data-channel={c.name} className="border-b border-rule py-[8px] last:border-0">
      <div className="flex items-baseline justify-between gap-4">
        <span><b className="text-[15px] font-[650]">{c.name}</b> <span className="text-ink2">{c.kind === "email" ? "e-mail to" : `webhook, ${c.settings.form || "cloudevent"}, to`}</span> {c.kind === "email" ? where : <code className="break-all">{where}</code>}</span>
        <span className="flex gap-4 whitespace-nowrap">
          <button className={link} disabled={test.isPending} onClick={() => test.mutate(c.name)}>{test.isPending ? "sending" : "send a test"}</button>
          {c.kind === "webhook" && <button className={link} onClick={() => rotate.mutate(c.name)}>new secret</button>}
          <button className={link} onClick={() => confirm(`Remove the channel ${c.name} with its routes and messages?`) && drop.mutate(c.name)}>remove</button>
        </span>
      </div>
      <div className="mt-[2px] text-ink2">{c.paused ? "paused: what is to be said waits" : c.failing_since ? <span className="text-verm"><Mark state="failed" word="not reached" /> since {time(c.failing_since, "UTC", "short")} UTC: {c.message} <button className={link} onClick={() => retry.mutate(c.name)}>try now</button></span> : "reached"}; at most {c.hourly_limit} an hour, what is beyond as one summary{c.header_names!.length > 0 && `; sent with ${c.header_names!.join(", ")}`}{c.old_until && Date.parse(c.old_until) > Date.now() && `; signed with the secret before as well until ${time(c.old_until, "UTC", "short")} UTC`}</div>
      {tried && <p role="status" className={tried.state === "sent" ? "text-ink2" : "text-verm"}>{tried.state === "sent" ? "The test has arrived." : `The test did not arrive: ${tried.error}`}</p>}
      {rotate.data && <p role="status">Its new secret, shown once: <code className="select-all">{rotate.data.secret}</code></p>}
      {wrong && <p role="alert" className="text-verm">{wrong.message}</p>}
    </article>
  );
}

function Routes() {
  const routes = useRoutes(), drop = useDropRoute();
  return (
    <Section title="Routes" note="which groups which channel hears of">
      <table className="mt-1 w-full border-collapse">
        <thead><tr><th className="py-1">route</th><th>to</th><th>datasets</th><th>owners</th><th className="pr-3">tags</th><th>from</th><th>hours</th><th>reminds</th><th>if nobody looks after it</th><th /></tr></thead>
        <tbody>
          {(routes.data ?? []).map((r) => (
            <tr key={r.id} className="h-[29px]">
              <td className="font-semibold">{r.name}</td><td>{r.channel}</td><td>{r.datasets!.length ? r.datasets!.map((d) => <code key={d} className="mr-1">{d}</code>) : <span className="text-ink2">all</span>}</td>
              <td>{r.owners!.join(", ") || <span className="text-ink2">all</span>}</td><td>{r.tags!.length ? r.tags!.map((t) => <Link key={t} className="mr-2" to={`/tags/${t}`}>{t}</Link>) : <span className="text-ink2">all</span>}</td><td><Mark state={r.severity as "warning"} /></td>
              <td className="text-ink2">{r.hours!.join(", ") || "always"}</td><td className="text-ink2">{r.remind_seconds ? `every ${duration(r.remind_seconds)}` : "–"}</td>
              <td className="text-ink2">{r.escalate_seconds ? `${r.escalate_to} after ${duration(r.escalate_seconds)}` : "–"}</td>
              <td className="num"><button className={link} onClick={() => drop.mutate(r.name)}>remove</button></td>
            </tr>
          ))}
        </tbody>
      </table>
      {drop.error && <p role="alert" className="text-verm">{drop.error.message}</p>}
    </Section>
  );
}

/** E-mail or webhook; what was typed stays when it is refused. */
function AddChannel() {
  const set = useSetChannel();
  const [kind, setKind] = useState<"email" | "webhook">("email");
  const [form, setForm] = useState<"cloudevent" | "chat" | "ticket" | "own">("cloudevent");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const element = e.currentTarget, f = new FormData(element), text = (k: string) => String(f.get(k) ?? "").trim();
    const settings: NewChannel["settings"] = kind === "email"
      ? { to: text("to").split(/[,\s]+/).filter(Boolean), from: text("from"), host: text("host"), port: Number(text("port")) || undefined, security: text("security") as "tls", user: text("user") || undefined }
      : { url: text("url"), form, template: form === "own" ? text("template") : undefined };
    const lines = text("headers").split("\n").map((l) => l.trim()).filter(Boolean);
    const headers = Object.fromEntries(lines.map((l) => [l.split(":")[0].trim(), l.slice(l.indexOf(":") + 1).trim()]));
    set.mutate({ name: text("name"), kind, settings, secret: text("secret") || undefined, ...(lines.length && { headers }) }, { onSuccess: () => element.reset() });
  };
  return (
    <Section title="Add a channel">
      <form className="mt-2 grid gap-2" aria-label="new channel" onSubmit={submit}>
        <Choice name="Kind" value={kind} options={[["email", "e-mail"], ["webhook", "webhook"]]} onChange={setKind} />
        <input name="name" aria-label="Name" required className={field} placeholder="name, for example night-desk" />
        {kind === "email" ? (
          <>
            <input name="to" aria-label="To" required className={field} placeholder="to: night@ferries.example" />
            <input name="from" aria-label="From" required type="email" className={field} placeholder="from: bell@ferries.example" />
            <div className="flex gap-2"><input name="host" aria-label="SMTP server" required className={field} placeholder="SMTP server" /><input name="port" aria-label="Port" type="number" className={`${field} w-20`} placeholder="587" /></div>
            <select name="security" aria-label="Security" className={field}><option value="starttls">STARTTLS</option><option value="tls">TLS from the start</option><option value="none">no encryption</option></select>
            <div className="flex gap-2"><input name="user" aria-label="Login" className={field} placeholder="login" autoComplete="off" /><input name="secret" aria-label="Password" type="password" className={field} placeholder="password" autoComplete="new-password" /></div>
          </>
        ) : (
          <>
            <input name="url" aria-label="Address" required type="url" className={`${field} font-mono text-[12.5px]`} placeholder="https://chat.example/hooks/1" />
            <textarea name="headers" aria-label="Headers" rows={2} spellCheck={false} autoComplete="off" className={`${field} font-mono text-[12px]`} placeholder={"headers, one a line: Authorization: Bearer …"} />
            <Choice name="Form" value={form} options={[["cloudevent", "event"], ["chat", "chat"], ["ticket", "ticket"], ["own", "own"]]} onChange={setForm} />
            {form === "own" && <textarea name="template" aria-label="Template" rows={6} required spellCheck={false} className={`${field} font-mono text-[12px]`} defaultValue={'{"summary": {{json .Title}}, "since": {{json .SinceUTC}}, "link": {{json .Links.Group}}}'} />}
            <p className="text-[13px] text-ink2">{{ cloudevent: "CloudEvents 1.0 as JSON, with everything there is to say.", chat: "A text with its links, as chat systems take it.", ticket: "Title, description, and a reference that stays the same for one fault.", own: "A body of your own; it is checked before it is kept." }[form]} Signed; the secret is shown once. Headers are kept encrypted, and only their names are shown.</p>
          </>
        )}
        <button disabled={set.isPending} className="border border-ink bg-brass-fill px-4 py-[4px] font-[650] text-on-brass">Add channel</button>
        {set.error && <p role="alert" className="text-verm">{set.error.message}</p>}
        {set.data && !set.error && <p role="status" className="text-ink2">{set.data.name} is set{set.data.secret && <>; its secret, shown once: <code className="break-all text-ink select-all">{set.data.secret}</code></>}. Send it a test, then lead a route to it.</p>}
      </form>
    </Section>
  );
}

const times = [["0", "never"], ["1800", "30 min"], ["3600", "1 h"], ["14400", "4 h"], ["86400", "1 day"]] as const;

function AddRoute({ channels, zone }: { channels: Channel[]; zone: string }) {
  const set = useSetRoute();
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const element = e.currentTarget, f = new FormData(element), text = (k: string) => String(f.get(k) ?? "").trim();
    const parts = (k: string) => text(k).split(",").map((t) => t.trim()).filter(Boolean);
    set.mutate({ name: text("name"), channel: text("channel"), datasets: parts("datasets"), owners: parts("owners"), tags: parts("tags"), severity: text("severity") as "warning", hours: text("hours") ? [text("hours")] : [], zone,
      remind_seconds: Number(text("remind")), escalate_seconds: text("escalate_to") ? Number(text("escalate")) : 0, escalate_to: text("escalate_to") }, { onSuccess: () => element.reset() });
  };
  return (
    <Section title="Add a route">
      <form className="mt-2 grid gap-2" aria-label="new route" onSubmit={submit}>
        <div className="flex items-center gap-2"><input name="name" aria-label="Name" required className={field} placeholder="name" /> to <select name="channel" aria-label="Channel" className={field}>{channels.map((c) => <option key={c.id}>{c.name}</option>)}</select></div>
        <input name="datasets" aria-label="Datasets" className={field} placeholder="datasets, as ops.*, raw.*; all if empty" />
        <input name="owners" aria-label="Owners" className={field} placeholder="owners; all if empty" />
        <input name="tags" aria-label="Tags" className={field} placeholder="tags, one is enough; all if empty" />
        <input name="hours" aria-label="Hours" className={field} placeholder="hours, as mon-fri 08:00-18:00; always if empty" />
        <label className="flex items-center gap-2 text-ink2">from <select name="severity" aria-label="Severity" className={field}><option>warning</option><option>critical</option></select> on, reminds <select name="remind" aria-label="Reminds" className={field}>{times.map(([v, t]) => <option key={v} value={v}>{v === "0" ? t : `every ${t}`}</option>)}</select></label>
        <label className="flex items-center gap-2 text-ink2">tells <select name="escalate_to" aria-label="Escalates to" className={field}><option value="">nobody else</option>{channels.map((c) => <option key={c.id}>{c.name}</option>)}</select> after <select name="escalate" aria-label="After" className={field} defaultValue="1800">{times.slice(1).map(([v, t]) => <option key={v} value={v}>{t}</option>)}</select></label>
        <button disabled={set.isPending} className="border border-ink px-4 py-[4px] font-[650]">Add route</button>
        {set.error && <p role="alert" className="text-verm">{set.error.message}</p>}
        {set.data && !set.error && <p role="status" className="text-ink2">Route {set.data.name} leads to <Link to="/setup/telling">{set.data.channel}</Link>{set.data.remind_seconds > 0 && `, ${count(1, "reminder")} every ${duration(set.data.remind_seconds)}`}.</p>}
      </form>
    </Section>
  );
}
