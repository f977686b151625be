// What is shown stays true: a change names what is not so any more, and that is asked anew.
import type { QueryClient } from '@tanstack/react-query';
import type { Change } from './client';
import { follow } from './stream';

const PAUSE = 1000;
const GATHER = 50;

export function startLive(queries: QueryClient, onState: (live: boolean) => void): () => void {
  const stale = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let last = 0;

  // A storm of changes becomes one refresh of each kind, at most once a second.
  const refresh = () => {
    timer = undefined;
    last = Date.now();
    for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
    stale.clear();
  };
  const heard = (change: Change) => {
    const all = change.reset;
    if (all || change.alerts?.length || change.verdicts) stale.add('alerts');
    if (all || change.alarms?.length) stale.add('alarms');
    if (all || change.jobs?.length || change.decisions) stale.add('jobs');
    if (all || change.proposals?.length) stale.add('proposals');
    if (all || change.definitions || change.jobs?.length) stale.add('definitions');
    if (all || change.definitions || change.jobs?.length || change.decisions) stale.add('subscribers');
    if (all || change.definitions || change.jobs?.length) stale.add('connections');
    stale.add('watch');
    timer ??= setTimeout(refresh, Math.max(PAUSE - (Date.now() - last), GATHER));
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
    clearTimeout(timer);
    removeEventListener('pagehide', hidden);
    removeEventListener('pageshow', shown);
  };
}
