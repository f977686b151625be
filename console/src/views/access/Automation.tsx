// What an author may let act by itself: shown beside the token, and set in a dialog.
import { useMutation } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import { type AutomationRight, setAutomation, type Token } from '../../api/client';
import { GlobFields, globs } from '../../ui/GlobFields';
import { Button, Failed } from '../../ui/parts';

const LINES: [keyof AutomationRight, string, string][] = [
  ['rules', 'Rules', 'disk-*, vm-switched-off'],
  ['plans', 'Plans', 'patch-*'],
  ['connections', 'Through the connections', 'yard-*, crew-chat'],
];

/** In a line, for people. */
function inWords(right: AutomationRight | undefined): string {
  const words = LINES.flatMap(([key, name]) => {
    const lines = right?.[key] ?? [];
    return lines.length > 0 ? [`${name.toLowerCase()} ${lines.join(', ')}`] : [];
  });
  return words.length > 0 ? `may automate ${words.join('; ')}` : 'may automate nothing';
}

export function Automation({ token, onSet }: { token: Token; onSet: () => unknown }) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<Partial<Record<keyof AutomationRight, string>>>({});
  const save = useMutation({
    mutationFn: () => {
      const line = (key: keyof AutomationRight) => globs(typed[key] ?? '');
      const right = {
        rules: line('rules'),
        plans: line('plans'),
        connections: line('connections'),
      };
      return setAutomation(token.name, right);
    },
    onSuccess: async () => {
      await onSet();
      setOpen(false);
    },
  });
  const begin = () => {
    setTyped(
      Object.fromEntries(LINES.map(([key]) => [key, (token.automate?.[key] ?? []).join(', ')])),
    );
    save.reset();
    setOpen(true);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate();
  };
  return (
    <span className="flex w-full flex-wrap items-center gap-2 text-[13px] text-ink-2">
      <span className="min-w-0 flex-1 break-words">{inWords(token.automate)}</span>
      <Button onClick={begin}>What it may automate…</Button>
      <Dialog.Root open={open} onOpenChange={setOpen}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
          <Dialog.Content className="-translate-x-1/2 fixed top-[12vh] left-1/2 z-20 max-h-[80vh] w-[min(560px,94vw)] overflow-auto rounded-lg border border-line bg-panel p-4">
            <Dialog.Title className="mb-1 font-bold text-[18px]">
              What {token.name} may automate
            </Dialog.Title>
            <Dialog.Description className="mb-3 text-ink-2">
              Rules that act and plans that have times do so without anybody being asked. Who
              publishes them, or what belongs to them, needs this right for all of these.
            </Dialog.Description>
            <form onSubmit={submit} className="flex flex-col gap-3">
              <GlobFields
                lines={LINES}
                typed={typed}
                onType={(key, text) => setTyped({ ...typed, [key]: text })}
              />
              <p className="text-[13px] text-ink-3">
                Names and globs. `scripts` is for scripts on a node. All empty: nothing.
              </p>
              {save.error && <Failed error={save.error} />}
              <div className="flex justify-end gap-2">
                <Button onClick={() => setOpen(false)}>Leave it</Button>
                <Button type="submit" look="go" disabled={save.isPending}>
                  Set it
                </Button>
              </div>
            </form>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </span>
  );
}
