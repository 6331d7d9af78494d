import { type ReactNode, useEffect } from "react";
import { Refused } from "../api/client";
import { Fallen } from "./Fallen";
import { KeyRow, type Keys } from "./keys";

const title =
  "mt-[5px] max-w-[1100px] text-[23px] leading-[28px] font-semibold " +
  "tracking-[-0.012em] max-md:text-[19px] max-md:leading-[24px]";

/** A page opens with its place, one sentence that says what it says, and its keys. */
export function Page({
  place,
  sentence,
  after,
  keys = {},
  children,
}: {
  place: ReactNode;
  sentence: string;
  after?: ReactNode;
  keys?: Keys;
  children: ReactNode;
}) {
  useEffect(() => {
    document.title = sentence ? `${sentence.replace(/\.$/, "")} · Tin Bell` : "Tin Bell";
  }, [sentence]);
  return (
    <main className="px-6 pt-[9px] pb-10 max-md:px-3">
      <div className="flex flex-wrap items-baseline justify-between gap-x-6">
        <div className="text-[13px] leading-[17px] text-ink2">{place}</div>
        <KeyRow keys={keys} />
      </div>
      <h1 className={title}>{sentence}</h1>
      {after && <p className="mt-[6px] text-ink2">{after}</p>}
      {children}
    </main>
  );
}

/** A section is a rule, a title and what follows. */
export function Section({
  title,
  note,
  right,
  className = "",
  children,
}: {
  title: string;
  note?: ReactNode;
  right?: ReactNode;
  className?: string;
  children: ReactNode;
}) {
  return (
    <section className={`border-t border-ink pt-[6px] ${className}`}>
      <div className="flex items-baseline justify-between gap-4">
        <h2 className="text-[14.5px] leading-[19px] font-[650]">
          {title}
          <span className="ml-3 text-[13px] font-normal text-ink2">{note}</span>
        </h2>
        <span className="text-[13px] text-ink2">{right}</span>
      </div>
      <Fallen what={title}>{children}</Fallen>
    </section>
  );
}

/** What failed, and what to try; earlier data stays. */
export function Trouble({ what, error }: { what: string; error: Error | null }) {
  if (!error) return null;
  return (
    <p role="alert" className="mt-3 border-t border-verm pt-2 text-verm">
      {what} could not be read: {error.message}.
      {!(error instanceof Refused && error.status < 500) && " It is tried again by itself."}
    </p>
  );
}

export function Reading({ what }: { what: string }) {
  return <p className="mt-4 text-ink2">still reading {what}</p>;
}
