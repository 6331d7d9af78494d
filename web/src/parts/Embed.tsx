import { useState } from "react";
import { answer, api } from "../api/client";
import { useAct } from "../api/learning";
import { Button } from "./Form";

/** A standing address of a chart, for another page to show: signed, and with an end. */
export function Embed({ series }: { series: number }) {
  const make = useAct(
    (days: number) =>
      answer(
        api.POST("/api/v1/series/{id}/link", {
          params: { path: { id: series } },
          body: { span_seconds: 7 * 86_400, days },
        }),
      ),
    [],
  );
  const [copied, setCopied] = useState("");
  const copy = (text: string) => navigator.clipboard.writeText(text).then(() => setCopied(text));
  return (
    <span className="text-[13px]">
      {!make.data && (
        <>
          <span className="text-ink2">The last week as a picture at an address of its own, for </span>
          {([30, 90, 365] as const).map((d) => (
            <Button
              key={d}
              disabled={make.isPending}
              look="text"
              className="mr-2"
              onClick={() => make.mutate(d)}
            >
              {d === 365 ? "a year" : `${d} days`}
            </Button>
          ))}
        </>
      )}
      {make.data &&
        [
          ["PNG", make.data.png],
          ["SVG", make.data.svg],
        ].map(([name, url]) => (
          <Button key={name} look="text" className="mr-3" title={url} onClick={() => copy(url)}>
            {copied === url ? `${name} copied` : `copy the ${name}'s address`}
          </Button>
        ))}
      {make.data && (
        <span role="status" className="text-ink2">
          works until {make.data.until.slice(0, 10)}; whoever has it sees this chart and nothing else
        </span>
      )}
      {make.error && (
        <span role="alert" className="text-verm">
          {make.error.message}
        </span>
      )}
    </span>
  );
}
