// Publishing the text as it stands: what it makes of what stands now, and what else is to be thought of.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { type ReactNode, useRef } from 'react';
import { type ActsByItself, type PlannedChange, publish, Refused } from '../../api/client';
import { Button, Empty, Failed } from '../../ui/parts';
import { some } from '../../ui/words';
import { Difference } from './Difference';
import { type Base, same } from './useDraft';

type Props = {
  name: string;
  /** What the text was begun from, by its own name; none for something new. */
  base?: Base & { name: string };
  text: string;
  open: boolean;
  onClose: (published: boolean) => void;
  children?: ReactNode;
};

export function Publish({ name, base, text, open, onClose, children }: Props) {
  const client = useQueryClient();
  const before = useRef<Element | null>(null);
  const plan = useQuery({
    queryKey: ['plan', name, text],
    queryFn: () => publish(`${name}.yaml`, text, true),
    enabled: open,
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
  const changes = plan.data?.changes ?? [];
  const sent = useMutation({
    mutationFn: () => publish(`${name}.yaml`, text, false, changes),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ['definitions'] });
      onClose(true);
    },
    // Somebody else was quicker: what stands now is shown.
    onError: () => client.invalidateQueries({ queryKey: ['plan'] }),
  });
  const over = changes.some((change) => isOver(change, base));
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose(false)}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          // It is opened by more than one button or key: the focus goes back to where it came from.
          onOpenAutoFocus={() => {
            before.current = document.activeElement;
          }}
          onCloseAutoFocus={(event) => {
            event.preventDefault();
            if (before.current instanceof HTMLElement) before.current.focus();
          }}
          className="-translate-x-1/2 fixed top-[8vh] left-1/2 z-20 max-h-[84vh] w-[min(680px,94vw)] overflow-auto rounded-lg border border-line bg-panel p-4"
        >
          <Dialog.Title className="mb-2 font-bold text-[18px]">Publish {name}?</Dialog.Title>
          {plan.isPending && <Empty>Looking at what stands</Empty>}
          {plan.error && <Failed error={plan.error} />}
          {changes.map((change) => (
            <Change
              key={`${change.kind} ${change.name}`}
              change={change}
              base={base}
              text={changes.length === 1 ? text : undefined}
            />
          ))}
          {plan.data && plan.data.problems.length > 0 && (
            <Failed
              error={
                new Refused(
                  `${some(plan.data.problems.length, 'problem')}:`,
                  422,
                  plan.data.problems,
                )
              }
            />
          )}
          {plan.data?.acts && plan.data.acts.length > 0 && <Acts acts={plan.data.acts} />}
          {children}
          {sent.error && (
            <div className="mt-3">
              <Failed error={sent.error} />
            </div>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => onClose(false)}>Not yet</Button>
            <Button
              look="go"
              onClick={() => sent.mutate()}
              disabled={
                sent.isPending ||
                changes.length === 0 ||
                (plan.data?.problems.length ?? 0) > 0 ||
                (plan.data?.acts ?? []).some((acts) => acts.lacking)
              }
            >
              {over ? 'Publish over it' : 'Publish'}
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** What acts by itself then, without anybody being asked. */
function Acts({ acts }: { acts: ActsByItself[] }) {
  const lacking = acts.find((one) => one.lacking)?.lacking;
  return (
    <section className="mt-2">
      <h3 className="font-semibold text-[12px] text-ink-3">Acts by itself then</h3>
      <ul className="mb-1">
        {acts.map(({ kind, name, connections }) => (
          <li key={`${kind} ${name}`} className="break-words text-ink-2">
            {`${kind} ${name}`}
            {connections.length > 0 && ` through ${connections.join(', ')}`}
          </li>
        ))}
      </ul>
      {lacking && (
        <p role="alert" className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">
          {`${lacking}. Publish it with \`stance: propose\`, or ask an admin for the right.`}
        </p>
      )}
    </section>
  );
}

/** Whether something stands that whoever wrote the text has not begun from. */
function isOver(change: PlannedChange, base: Props['base']): boolean {
  if (change.change !== 'changed' || change.before == null || isBySteps(change)) return false;
  return base?.name !== change.name || !same(change.before, base.text);
}

/** Whether only the shared steps change that it uses. */
function isBySteps(change: PlannedChange): boolean {
  return (change.steps ?? []).length > 0 && change.before === change.after;
}

type ChangeProps = { change: PlannedChange; base: Props['base']; text: string | undefined };

function Change({ change, base, text }: ChangeProps) {
  const { kind, name, version } = change;
  const before = change.before ?? '';
  if (isBySteps(change))
    return (
      <p className="mb-2 text-ink-2">{`${kind} ${name} uses step ${change.steps?.join(', ')}: it becomes version ${version} with it.`}</p>
    );
  if (change.change === 'same')
    return <p className="mb-2 text-ink-2">{`${kind} ${name} stays as it is.`}</p>;
  if (change.change !== 'changed')
    return (
      <section className="mb-2">
        <p className="mb-1 text-ink-2">
          {base
            ? `It is a second ${kind} besides ${base.name}, which stays as it is.`
            : `The ${kind} ${name} is new.`}
        </p>
        {text && <pre className="max-h-80 overflow-auto whitespace-pre-wrap">{text}</pre>}
      </section>
    );
  return (
    <section className="mb-2">
      {base?.name !== name && (
        <p role="alert" className="mb-1 rounded-md bg-warn-soft px-3 py-1.5 text-warn">
          {`A ${kind} ${name} stands already, as version ${version - 1}: this replaces it.`}
        </p>
      )}
      {base?.name === name && isOver(change, base) && (
        <div role="alert" className="mb-1 rounded-md bg-warn-soft px-3 py-1.5 text-warn">
          <p>{`Version ${version - 1} was published meanwhile; this text was begun from version ${base.version}. It changed:`}</p>
          <div className="text-ink">
            <Difference before={base.text} after={before} />
          </div>
        </div>
      )}
      <p className="mb-1 text-ink-2">{`These lines change, on every node at once: ${kind} ${name}, version ${version}.`}</p>
      <Difference before={before} after={change.after ?? ''} />
    </section>
  );
}
