import { Dialog } from "radix-ui";
import { Key, type Keys } from "./keys";
import { cx } from "./cx";

/** All keys of a page, in a dialogue. */
export function KeyList({ keys, close }: { keys: Keys; close: () => void }) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ground opacity-80" />
        <Dialog.Content
          className={cx("fixed top-24 left-1/2 w-96 -translate-x-1/2 border border-ink", "bg-field p-6")}
        >
          <Dialog.Title className="mb-3 text-[15px] font-[650]">Keys of this page</Dialog.Title>
          <Dialog.Description className="mb-3 text-ink2">
            Single keys rest while a field has focus.
          </Dialog.Description>
          {[
            ...Object.entries(keys),
            ["/", { does: "find" }] as const,
            ["?", { does: "this list" }] as const,
          ].map(([name, key]) => (
            <div key={name} className="border-b border-hair py-1">
              <Key name={name} />
              {key.does}
            </div>
          ))}
          <Dialog.Close className="mt-4 border border-ink px-3 py-1">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
