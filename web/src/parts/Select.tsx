import { Select as Radix } from "radix-ui";
import { Children, isValidElement, type ReactNode, useId, useState } from "react";
import { box } from "./Form";

/** A choice of a Select; without a value its text is the value. */
export function Option(_: { value?: string | number; children: ReactNode }): null {
  return null;
}

type Entry = { value: string; text: ReactNode };

/** The choices among what stands within a Select, groups of them with their names. */
function entries(children: ReactNode): Entry[] {
  return Children.toArray(children).flatMap((c) => {
    if (!isValidElement<{ value?: string | number; children: ReactNode }>(c)) return [];
    if (c.type !== Option) return entries(c.props.children);
    const text = c.props.children;
    return [{ value: String(c.props.value ?? (Array.isArray(text) ? text.join("") : text)), text }];
  });
}

const nothing = "\u0000"; // what stands for the empty choice, which the list itself cannot have

/**
 * One of many. Within a form its name carries the value, as a native one's would; without a
 * value of its own it keeps one.
 */
export function Select({
  name,
  value,
  defaultValue,
  onChange,
  children,
  className = "",
  ...rest
}: {
  name?: string;
  value?: string | number;
  defaultValue?: string | number;
  onChange?: (value: string) => void;
  children: ReactNode;
  className?: string;
  "aria-label"?: string;
  disabled?: boolean;
  required?: boolean;
}) {
  const list = entries(children);
  const [own, setOwn] = useState<string>();
  const shown = String(value ?? own ?? defaultValue ?? list[0]?.value ?? "");
  const id = useId();
  return (
    <>
      {name && <input type="hidden" name={name} value={shown} />}
      <Radix.Root
        value={shown === "" ? nothing : shown}
        onValueChange={(v) => {
          const chosen = v === nothing ? "" : v;
          setOwn(chosen);
          onChange?.(chosen);
        }}
        disabled={rest.disabled}
      >
        <Radix.Trigger
          id={id}
          aria-label={rest["aria-label"]}
          aria-required={rest.required}
          data-name={name}
          data-value={shown}
          className={`${box} flex items-center justify-between gap-2 text-left ${className}`}
        >
          <span className="overflow-hidden text-ellipsis whitespace-nowrap">
            <Radix.Value />
          </span>
          <Radix.Icon className="text-[10px]">▾</Radix.Icon>
        </Radix.Trigger>
        <Radix.Portal>
          <Radix.Content
            position="popper"
            className="z-30 max-h-[var(--radix-select-content-available-height)] border border-ink bg-field"
          >
            <Radix.Viewport>
              {list.map((o) => (
                <Radix.Item
                  key={o.value}
                  value={o.value === "" ? nothing : o.value}
                  className="cursor-pointer px-3 py-1 data-[highlighted]:bg-well"
                >
                  <Radix.ItemText>{o.text}</Radix.ItemText>
                </Radix.Item>
              ))}
            </Radix.Viewport>
          </Radix.Content>
        </Radix.Portal>
      </Radix.Root>
    </>
  );
}
