// Asks once more before something is done that cannot be taken back at once.
import { useMutation } from '@tanstack/react-query';
import { AlertDialog } from 'radix-ui';
import { type ReactNode, useState } from 'react';
import { Button, Failed } from './parts';

type Props = {
  /** What the button says that asks. */
  ask: string;
  title: string;
  /** What it does. */
  children: ReactNode;
  /** What the button says that does it. */
  act: string;
  onAct: () => Promise<unknown>;
  disabled?: boolean;
};

export function Sure({ ask, title, children, act, onAct, disabled }: Props) {
  const [open, setOpen] = useState(false);
  const done = useMutation({ mutationFn: onAct, onSuccess: () => setOpen(false) });
  return (
    <AlertDialog.Root open={open} onOpenChange={setOpen}>
      <AlertDialog.Trigger asChild>
        <Button>{ask}</Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <AlertDialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-20 flex max-h-[84vh] w-[min(520px,94vw)] -translate-x-1/2 -translate-y-1/2 flex-col gap-3 overflow-auto rounded-lg border border-line bg-panel p-4"
        >
          <AlertDialog.Title className="font-bold text-[18px]">{title}</AlertDialog.Title>
          <div className="text-ink-2">{children}</div>
          {done.error && <Failed error={done.error} />}
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Not now</Button>
            </AlertDialog.Cancel>
            <Button look="go" disabled={disabled || done.isPending} onClick={() => done.mutate()}>
              {act}
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
