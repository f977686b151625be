// Going anywhere by a few letters: Ctrl K opens it wherever one is.
import { useQueries, useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Dialog } from 'radix-ui';
import { type KeyboardEvent, useEffect, useId, useState } from 'react';
import { useNavigate } from 'react-router';
import { definitions, vocabulary } from '../api/client';
import { savedViews } from '../ui/SavedViews';
import { type Destination, destinations } from './destinations';

const KINDS = [
  { kind: 'rule', path: '/rules' },
  { kind: 'runbook', path: '/runbooks' },
  { kind: 'connection', path: '/connections' },
  { kind: 'subscriber', path: '/subscribers' },
  { kind: 'contact', path: '/contacts' },
  { kind: 'source', path: '/sources' },
  { kind: 'step', path: '/steps' },
  { kind: 'calendar', path: '/calendars' },
  { kind: 'group', path: '/groups' },
];

export function Palette({ views }: { views: Destination[] }) {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const pressed = (event: globalThis.KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
        event.preventDefault();
        setOpen((now) => !now);
      }
    };
    addEventListener('keydown', pressed);
    return () => removeEventListener('keydown', pressed);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <button
          type="button"
          className="mb-2 flex justify-between rounded-[5px] border border-line bg-panel px-2 py-1 text-ink-3 hover:text-ink"
        >
          Go to…
          <kbd className="font-sans text-[12px]">Ctrl K</kbd>
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="-translate-x-1/2 fixed top-[10vh] left-1/2 z-20 w-[min(560px,94vw)] overflow-hidden rounded-lg border border-line bg-panel"
        >
          <Dialog.Title className="sr-only">Go to</Dialog.Title>
          <Search views={views} onGone={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Search({ views, onGone }: { views: Destination[]; onGone: () => void }) {
  const [typed, setTyped] = useState('');
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const list = useId();
  const published = useQueries({
    queries: KINDS.map(({ kind }) => ({
      queryKey: ['definitions', kind],
      queryFn: () => definitions(kind),
    })),
  });
  const words = useQuery({ queryKey: ['vocabulary'], queryFn: vocabulary, staleTime: 60_000 });
  const all = [
    ...views,
    ...savedViews(),
    ...KINDS.flatMap(({ kind, path }, i) =>
      (published[i]?.data?.items ?? []).flatMap((item): Destination[] => {
        const own = { name: item.name, what: kind, to: `${path}/${item.name}` };
        const launch = {
          name: `Launch ${item.name}`,
          what: 'runbook',
          to: `${path}/${item.name}/launch`,
        };
        return kind === 'runbook' ? [own, launch] : [own];
      }),
    ),
  ];
  for (const resource of words.data?.resources ?? []) {
    all.push({
      name: resource,
      what: 'resource',
      to: `/alarms?state=any&resource=${encodeURIComponent(resource)}`,
    });
  }
  const found = destinations(typed, all);
  const chosen = Math.min(at, Math.max(0, found.length - 1));
  const go = (goal: Destination | undefined) => {
    if (!goal) return;
    onGone();
    if (goal.to) navigate(goal.to);
    goal.act?.();
  };
  const pressed = (event: KeyboardEvent) => {
    const step = event.key === 'ArrowDown' ? 1 : event.key === 'ArrowUp' ? -1 : 0;
    if (step) {
      event.preventDefault();
      setAt((chosen + step + found.length) % Math.max(1, found.length));
    }
    if (event.key === 'Enter') go(found[chosen]);
  };
  return (
    <>
      <input
        // biome-ignore lint/a11y/noAutofocus: whoever opens it wants to type
        autoFocus
        role="combobox"
        aria-expanded="true"
        aria-controls={list}
        aria-activedescendant={found[chosen] ? `${list}-${chosen}` : undefined}
        aria-label="A view, a rule, a resource, something to do, or job 12"
        placeholder="A view, a rule, a resource, something to do, or job 12"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setAt(0);
        }}
        onKeyDown={pressed}
        className="w-full border-line border-b bg-panel px-3.5 py-2.5 outline-none"
      />
      <div
        id={list}
        role="listbox"
        aria-label="Where to go"
        className="max-h-[60vh] overflow-auto py-1"
      >
        {found.map((goal, i) => (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the keys are heard by the field above
          <div
            key={`${goal.what} ${goal.name}`}
            id={`${list}-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === chosen}
            onClick={() => go(goal)}
            className={clsx(
              'flex cursor-pointer justify-between gap-3 px-3.5 py-1.5',
              i === chosen && 'bg-sea-soft text-sea',
            )}
          >
            <span className="min-w-0 truncate">{goal.name}</span>
            <span className={i === chosen ? '' : 'text-ink-3'}>{goal.what}</span>
          </div>
        ))}
      </div>
      {found.length === 0 && <p className="px-3.5 pb-3 text-ink-3">Nothing fits.</p>}
    </>
  );
}
