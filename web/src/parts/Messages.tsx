import { Link } from "react-router";
import type { Message } from "../api/client";
import { Mark } from "./Mark";
import { time } from "./words";

const means: Record<string, string> = {
  opened: "told",
  changed: "told of a change",
  again: "told that it is back",
  reminder: "reminded",
  asked: "told, as somebody asked",
  escalated: "told, as nobody looked after it",
  recovered: "told that it is over",
  summary: "summary",
  test: "test",
};

/** Messages as a list: when, to whom, what became of them. */
export function Messages({ list, zone, none }: { list: Message[]; zone: string; none: string }) {
  if (list.length === 0) return <p className="mt-2 text-ink2">{none}</p>;
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr>
          <th className="py-1">when</th>
          <th>channel</th>
          <th>what</th>
          <th>state</th>
          <th className="num">tries</th>
          <th className="pl-6">subject</th>
        </tr>
      </thead>
      <tbody>
        {list.map((m) => (
          <tr key={m.id} className="h-[27px]">
            <td className="pr-3 whitespace-nowrap">{time(m.sent_at ?? m.created_at, zone, "short")}</td>
            <td className="pr-3">{m.channel}</td>
            <td className="pr-3 text-ink2">{means[m.what]}</td>
            <td className="max-w-[300px] pr-3">
              <Mark
                state={
                  m.state === "sent"
                    ? "sent"
                    : m.state === "failed"
                      ? "failed"
                      : m.state === "waiting"
                        ? "waiting"
                        : "unknown"
                }
                word={
                  m.state === "waiting" && m.attempts > 0
                    ? `tried again ${time(m.due_at, zone, "time")}`
                    : m.state
                }
              />
              {m.error && m.state !== "sent" && (
                <span className="block text-[13px] text-ink2">{m.error}</span>
              )}
            </td>
            <td className="num">{m.attempts}</td>
            <td className="pl-6">
              {m.group_id ? (
                <Link to={`/groups/${m.group_id}`}>{m.subject || "not written yet"}</Link>
              ) : (
                m.subject
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
