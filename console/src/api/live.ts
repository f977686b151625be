// What is shown stays true: a change names what is not so any more, and that is asked anew.
import type { QueryClient } from '@tanstack/react-query';
import type { Change } from './client';
import { follow } from './stream';

/** How often what is on a page is asked anew at most, in milliseconds: what is looked at while it changes more often than the
    rest around it. */
const PACE: Record<string, number> = { watch: 2000 };
const OFTEN = 1000;
const SELDOM = 5000;
const SELDOM_ASKED = /-pages$|^timeline$|^definitions$|^connections$|^subscribers$/;
const GATHER = 50;

const pace = (key: string) => PACE[key] ?? (SELDOM_ASKED.test(key) ? SELDOM : OFTEN);

export function startLive(queries: QueryClient, onState: (live: boolean) => void): () => void {
  const last = new Map<string, number>();
  const due = new Map<string, ReturnType<typeof setTimeout>>();

  // A storm of changes becomes one question of each kind in its time.
  const stale = {
    add(key: string) {
      if (due.has(key)) return;
      const refresh = () => {
        due.delete(key);
        last.set(key, Date.now());
        void queries.invalidateQueries({ queryKey: [key] });
      };
      const wait = pace(key) - (Date.now() - (last.get(key) ?? 0));
      due.set(key, setTimeout(refresh, Math.max(wait, GATHER)));
    },
  };
  const list = (key: string) => {
    stale.add(key);
    stale.add(`${key}-pages`);
  };
  const heard = (change: Change) => {
    const all = change.reset;
    if (all || change.alerts?.length || change.verdicts) list('alerts');
    if (all || change.alarms?.length) list('alarms');
    if (all || change.jobs?.length || change.decisions) list('jobs');
    if (all || change.proposals?.length) list('proposals');
    if (all || change.definitions || change.jobs?.length) stale.add('definitions');
    if (all || change.definitions || change.jobs?.length || change.decisions)
      stale.add('subscribers');
    if (all || change.definitions || change.jobs?.length) stale.add('connections');
    if (all || change.definitions) {
      stale.add('contacts');
      stale.add('mutes');
      stale.add('alarms');
    }
    if (all || change.alerts?.length || change.verdicts || change.jobs?.length)
      stale.add('timeline');
    stale.add('watch');
  };
  let stop = follow({ heard, live: onState });
  // A page that is kept for going back follows nobody meanwhile, and asks anew when it is shown again.
  const hidden = (event: PageTransitionEvent) => event.persisted && stop();
  const shown = (event: PageTransitionEvent) => {
    if (!event.persisted) return;
    stop = follow({ heard, live: onState });
    heard({ reset: true } as Change);
  };
  addEventListener('pagehide', hidden);
  addEventListener('pageshow', shown);
  return () => {
    stop();
    for (const timer of due.values()) clearTimeout(timer);
    removeEventListener('pagehide', hidden);
    removeEventListener('pageshow', shown);
  };
}
