import { AlertDialog, Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";
import { Button } from "./Button";
import { Trouble } from "./Trouble";

const box = "fixed top-1/2 left-1/2 z-20 flex max-h-[90dvh] w-[min(40rem,94vw)] -translate-x-1/2 -translate-y-1/2 flex-col gap-3 overflow-y-auto border border-edge bg-ground p-5";

// A window over the page. Escape closes it, focus stays in it and goes back where it was.
export function Window(props: { title: string; open: boolean; onClose: () => void; children: ReactNode }) {
  return (
    <Dialog.Root open={props.open} onOpenChange={(o) => !o && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-ink/40" />
        <Dialog.Content aria-describedby={undefined} className={box}>
          <Dialog.Title className="text-lg font-semibold">{props.title}</Dialog.Title>
          {props.children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

// A button that asks first, saying what it will destroy.
export function Destroy(props: { what: string; question: string; detail: string; onSure: () => Promise<unknown> }) {
  const [open, setOpen] = useState(false);
  const [error, setError] = useState<Error>();
  return (
    <AlertDialog.Root open={open} onOpenChange={(o) => (setOpen(o), setError(undefined))}>
      <AlertDialog.Trigger asChild>
        <Button kind="danger">{props.what}</Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-10 bg-ink/40" />
        <AlertDialog.Content className={box}>
          <AlertDialog.Title className="text-lg font-semibold">{props.question}</AlertDialog.Title>
          <AlertDialog.Description>{props.detail}</AlertDialog.Description>
          {error && <Trouble error={error} />}
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Keep it</Button>
            </AlertDialog.Cancel>
            <Button kind="danger" onClick={() => props.onSure().then(() => setOpen(false), setError)}>
              {props.what}
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
