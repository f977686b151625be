// The frame: who is signed in, where one is, whether what is shown is live.
import { type Query, useQuery, useQueryClient } from '@tanstack/react-query';
import clsx from 'clsx';
import { Dialog } from 'radix-ui';
import { useEffect, useState, useSyncExternalStore } from 'react';
import { Link, NavLink, Outlet, ScrollRestoration, useLocation } from 'react-router';
import { me, Refused, signOut, type Who, watch } from '../api/client';
import { startLive } from '../api/live';
import { Brand } from '../ui/marks';
import { Button, Failed } from '../ui/parts';
import { ExactTip } from '../ui/Time';
import type { Destination } from './destinations';
import { Halted } from './Halted';
import { Keys } from './Keys';
import { Palette } from './Palette';
import { SignIn, SignInAgain } from './SignIn';
import { ThemeSwitch, turnTheme } from './ThemeSwitch';
import { turnZone, ZoneSwitch } from './ZoneSwitch';

const AREAS: [string, [string, string][]][] = [
  [
    '',
    [
      ['Watch', '/'],
      ['Alarms', '/alarms'],
      ['Jobs', '/jobs'],
      ['Proposals', '/proposals'],
    ],
  ],
  [
    'Take in',
    [
      ['Alerts', '/alerts'],
      ['Sources', '/sources'],
    ],
  ],
  [
    'Decide',
    [
      ['Rules', '/rules'],
      ['Runbooks', '/runbooks'],
      ['Plans', '/plans'],
      ['Shared', '/shared'],
      ['Safety', '/safety'],
    ],
  ],
  [
    'Reach',
    [
      ['Connections', '/connections'],
      ['Subscribers', '/subscribers'],
      ['Contacts', '/contacts'],
    ],
  ],
  [
    'Keep',
    [
      ['System', '/system'],
      ['Access', '/access'],
      ['Record', '/record'],
    ],
  ],
];

const VIEWS: Destination[] = [
  ...AREAS.flatMap(([, links]) => links.map(([name, to]) => ({ name, what: 'view', to }))),
  { name: 'Library', what: 'ready-made runbooks', to: '/library' },
  { name: 'New rule', what: 'to do', to: '/rules/new' },
  { name: 'New runbook', what: 'to do', to: '/runbooks/new' },
  { name: 'New source', what: 'to do', to: '/sources/new' },
  { name: 'Import a description of an API', what: 'to do', to: '/connections/import' },
  { name: 'Keys of the console', what: 'help', to: '/keys' },
];

export function Shell() {
  const who = useQuery({ queryKey: ['me'], queryFn: me, staleTime: Number.POSITIVE_INFINITY });
  if (who.isPending) return <p className="p-8 text-ink-3">Opening the console</p>;
  const ended = who.error instanceof Refused && who.error.status === 401;
  if (!who.data)
    return ended ? <SignIn /> : <Failed error={who.error ?? new Error('Nobody is known')} />;
  return (
    <>
      <Frame who={who.data} />
      {ended && <SignInAgain who={who.data} />}
    </>
  );
}

function Frame({ who }: { who: Who }) {
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  const [open, setOpen] = useState(false);
  const { pathname } = useLocation();
  useEffect(() => {
    const told = (live: boolean) => {
      setLive(live);
      // Streams end with their token as well.
      if (!live) void queries.invalidateQueries({ queryKey: ['me'] });
    };
    return startLive(queries, told);
  }, [queries]);
  const old = useOld();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the menu closes whenever the place changes
  useEffect(() => setOpen(false), [pathname]);
  return (
    <div className="min-h-dvh md:grid md:grid-cols-[188px_1fr] print:block">
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:fixed focus:top-2 focus:left-2 focus:z-30 focus:rounded-md focus:bg-panel focus:px-3 focus:py-1.5"
      >
        Skip the menu
      </a>
      <ScrollRestoration />
      <Keys />
      <ExactTip />
      <aside
        aria-label="Menu"
        className="sticky top-0 hidden h-dvh flex-col overflow-y-auto border-line border-r bg-sunk px-3 py-4 md:flex print:hidden"
      >
        <Menu who={who} live={live} />
      </aside>
      <header className="flex items-center gap-3 border-line border-b bg-sunk px-4 py-2 md:hidden print:hidden">
        <Brand />
        <span className="font-bold text-lg">Arvok</span>
        <Dialog.Root open={open} onOpenChange={setOpen}>
          <Dialog.Trigger asChild>
            <Button className="ml-auto">Menu</Button>
          </Dialog.Trigger>
          <Dialog.Portal>
            <Dialog.Overlay className="fixed inset-0 bg-black/40" />
            <Dialog.Content
              aria-describedby={undefined}
              className="fixed inset-y-0 right-0 flex w-56 flex-col bg-sunk px-3 py-4"
            >
              <Dialog.Title className="sr-only">Menu</Dialog.Title>
              <Menu who={who} live={live} />
            </Dialog.Content>
          </Dialog.Portal>
        </Dialog.Root>
      </header>
      <main
        id="main"
        tabIndex={-1}
        className="flex min-w-0 flex-col gap-3.5 px-4 py-4 outline-none md:px-6"
      >
        {!live && (
          <p role="status" className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">
            Not live: the connection to the service broke. Trying again.
          </p>
        )}
        {live && old && (
          <p role="alert" className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">
            Some of what is shown may be old: {old}
          </p>
        )}
        <Halted />
        <Outlet />
      </main>
    </div>
  );
}

/** Why something that is on the page could not be asked anew, if that is so. */
function useOld(): string | undefined {
  const cache = useQueryClient().getQueryCache();
  const isOld = (query: Query) =>
    query.queryKey[0] !== 'me' &&
    query.isActive() &&
    query.state.data !== undefined &&
    query.state.error;
  const old = () => cache.getAll().find(isOld)?.state.error?.message;
  return useSyncExternalStore((changed) => cache.subscribe(() => queueMicrotask(changed)), old);
}

/** What the numbers in the menu count. */
const COUNTED: Record<string, string> = { Alarms: 'standing', Jobs: 'under way' };

function Menu({ who, live }: { who: Who; live: boolean }) {
  const queries = useQueryClient();
  const seen = useQuery({ queryKey: ['watch', '1h'], queryFn: () => watch('1h') });
  const counts: Record<string, number | undefined> = {
    Alarms: seen.data?.alarms_open,
    Jobs: seen.data?.jobs_under_way ?? seen.data?.under_way.length,
  };
  const leave = async () => {
    await signOut().catch(() => undefined);
    queries.clear();
    await queries.invalidateQueries({ queryKey: ['me'] });
    location.assign('/');
  };
  return (
    <>
      <div className="flex items-center gap-2 px-2 pb-4 font-bold text-lg">
        <Brand />
        Arvok
      </div>
      <Palette
        views={[
          ...VIEWS,
          { name: 'Sign out', what: 'to do', act: () => void leave() },
          { name: 'Dark or light', what: 'to do', act: turnTheme },
          { name: 'Times in UTC or local', what: 'to do', act: turnZone },
        ]}
      />
      <nav aria-label="Views" className="flex flex-col gap-0.5">
        {AREAS.map(([area, links]) => (
          <div key={area} className="flex flex-col gap-0.5">
            {area && (
              <p className="mx-2 mt-2.5 mb-1 font-semibold text-[11px] text-ink-3">{area}</p>
            )}
            {links.map(([name, to]) => (
              <NavLink
                key={to}
                to={to}
                end={to === '/'}
                className={({ isActive }) =>
                  clsx(
                    'flex justify-between rounded-[5px] px-2 py-[3px] hover:bg-panel',
                    isActive
                      ? 'bg-panel font-semibold text-ink shadow-[inset_3px_0_0_var(--sea)]'
                      : 'text-ink-2',
                  )
                }
              >
                {name}
                {counts[name] ? (
                  <b className="font-semibold text-[12px] text-sea" title={COUNTED[name]}>
                    {counts[name].toLocaleString('en')}
                  </b>
                ) : null}
              </NavLink>
            ))}
          </div>
        ))}
      </nav>
      <div className="mt-auto flex flex-col gap-1.5 px-2 pt-4 text-[12px] text-ink-3">
        <span className="flex items-center gap-1.5">
          <span
            className={clsx('size-2 rounded-full', live ? 'bg-good' : 'bg-warn')}
            aria-hidden="true"
          />
          {live ? 'live' : 'not live'}
        </span>
        <span>
          {who.name}, {who.role}
        </span>
        <div className="flex items-center justify-between">
          <ThemeSwitch />
          <ZoneSwitch />
        </div>
        <div className="flex items-center justify-between">
          <Link to="/keys" className="hover:text-ink">
            Keys
          </Link>
          <button type="button" className="text-sea hover:underline" onClick={leave}>
            Sign out
          </button>
        </div>
      </div>
    </>
  );
}
