import { AlertDialog, Dialog } from "radix-ui";
import { type ComponentProps, type ReactNode, useState } from "react";
import { Button, Field, field, Form } from "./Form";

const shade = "fixed inset-0 z-20 bg-ink/40";
const sheet =
  "fixed top-[24%] left-1/2 z-20 w-[470px] max-w-[94vw] -translate-x-1/2 border border-ink bg-ground p-5";

/** A button for what cannot be undone: it asks first, and says what goes. */
export function Sure({
  asks,
  says,
  does,
  act,
  children,
  look = "text",
  ...rest
}: Omit<ComponentProps<typeof Button>, "onClick"> & {
  asks: string;
  says?: ReactNode;
  does: string;
  act: () => void;
}) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>
        <Button look={look} {...rest}>
          {children}
        </Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className={shade} />
        <AlertDialog.Content className={sheet}>
          <AlertDialog.Title className="text-[17px] leading-[22px] font-semibold">{asks}</AlertDialog.Title>
          <AlertDialog.Description className="mt-2">
            {says ?? "This cannot be taken back."}
          </AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-3">
            <AlertDialog.Cancel asChild>
              <Button>Leave it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button look="danger" onClick={act}>
                {does}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

/** A button that asks for one line of text. */
export function Typed({
  asks,
  label,
  given,
  does,
  act,
  children,
  ...rest
}: Omit<ComponentProps<typeof Button>, "onClick"> & {
  asks: string;
  label: string;
  given: string;
  does: string;
  act: (text: string) => void;
}) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button look="text" {...rest}>
          {children}
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className={shade} />
        <Dialog.Content className={sheet} aria-describedby={undefined}>
          <Dialog.Title className="text-[17px] font-semibold">{asks}</Dialog.Title>
          <Form
            className="mt-3 grid gap-4"
            onSubmit={(e) => {
              e.preventDefault();
              const text = String(new FormData(e.currentTarget).get("text")).trim();
              if (text && text !== given) act(text);
              setOpen(false);
            }}
          >
            <Field label={label}>
              <input name="text" required autoFocus defaultValue={given} className={field} />
            </Field>
            <div className="flex justify-end gap-3">
              <Dialog.Close asChild>
                <Button>Leave it</Button>
              </Dialog.Close>
              <Button type="submit" look="primary">
                {does}
              </Button>
            </div>
          </Form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
