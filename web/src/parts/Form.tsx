import {
  type ComponentProps,
  createContext,
  type ReactNode,
  useCallback,
  useContext,
  useEffect,
  useMemo,
  useState,
} from "react";
import { Refused } from "../api/client";

const looks = {
  primary:
    "border border-ink bg-brass-fill px-4 py-[4px] font-[650] text-on-brass " +
    "disabled:border-ink3 disabled:bg-well disabled:text-ink3",
  plain: "border border-ink px-3 py-[3px] disabled:border-ink3 disabled:text-ink3",
  danger: "border border-verm px-3 py-[3px] text-verm disabled:border-ink3 disabled:text-ink3",
  text: "underline decoration-pewter-line underline-offset-3 disabled:no-underline disabled:text-ink3",
} as const;

/** What does something. One primary a form; text where it stands within a sentence or a row. */
export function Button({
  look = "plain",
  className = "",
  type = "button",
  ...rest
}: ComponentProps<"button"> & { look?: keyof typeof looks }) {
  return <button type={type} className={`${looks[look]} ${className}`} {...rest} />;
}

/** How what is typed into looks; its width is the place's. */
export const box = "border border-ink3 bg-field px-2 py-[4px] text-ink";
export const field = `w-full ${box}`;

/** What was refused in the form around, and how a field says that it will show that. */
const Wrong = createContext<{ error?: Error | null; claim?: (field: string) => () => void }>({});

/**
 * A form that keeps what was typed. What the service refuses stands beside the field that is
 * wrong, in the service's words, or below all fields where it is about none of them.
 */
export function Form({ error, children, ...rest }: ComponentProps<"form"> & { error?: Error | null }) {
  const [fields, setFields] = useState<readonly string[]>([]);
  const claim = useCallback((field: string) => {
    setFields((known) => [...known, field]);
    return () => setFields((known) => known.filter((f) => f !== field));
  }, []);
  const place = useMemo(() => ({ error, claim }), [error, claim]);
  const beside = error instanceof Refused && fields.includes(error.field ?? "");
  return (
    <Wrong value={place}>
      <form {...rest}>
        {children}
        {error && !beside && <Refusal error={error} />}
      </form>
    </Wrong>
  );
}

/** What went wrong, in the service's words. */
export function Refusal({ error, className = "" }: { error: Error | null; className?: string }) {
  if (!error) return null;
  return (
    <p role="alert" className={`text-verm ${className}`}>
      {error.message}
    </p>
  );
}

/** A label above its control, help below it where a word is ours, and what is wrong with it. */
export function Field({
  label,
  help,
  of,
  className = "",
  children,
}: {
  label: ReactNode;
  help?: ReactNode;
  /** What the API calls it, so that what is wrong with it stands here. */
  of?: string;
  className?: string;
  children: ReactNode;
}) {
  const { error, claim } = useContext(Wrong);
  useEffect(() => (of ? claim?.(of) : undefined), [of, claim]);
  return (
    <label className={`block ${className}`}>
      <span className="block text-[13px] leading-[18px] text-ink2">{label}</span>
      {children}
      {help && <span className="block text-[12.5px] leading-[16px] text-ink3">{help}</span>}
      {error instanceof Refused && of && error.field === of && (
        <Refusal error={error} className="text-[13px]" />
      )}
    </label>
  );
}
