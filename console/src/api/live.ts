// Live by server-sent events: a message names what changed, and what is shown of it is asked anew.
import type { QueryClient } from '@tanstack/react-query';
import type { Change } from './client';

const PAUSE = 1000;
const GATHER = 50;
const REFUSED = 5000;

export function startLive(queries: QueryClient, onState: (live: boolean) => void): () => void {
  let source: EventSource | undefined;
  const stale = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let last = 0;
  let again: ReturnType<typeof setTimeout> | undefined;

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
    stale.add('watch');
    timer ??= setTimeout(refresh, Math.max(PAUSE - (Date.now() - last), GATHER));
  };
  const open = () => {
    source?.close();
    clearTimeout(again);
    source = new EventSource('/api/v1/stream');
    source.onopen = () => onState(true);
    source.onerror = () => {
      onState(false);
      // A refusal (too many follow already) is final for an event source, unlike a lost connection.
      if (source?.readyState === EventSource.CLOSED) again = setTimeout(open, REFUSED);
    };
    source.onmessage = (event) => heard(JSON.parse(event.data) as Change);
  };
  const close = () => {
    clearTimeout(again);
    source?.close();
  };
  open();
  addEventListener('pagehide', close);
  addEventListener('pageshow', reopened);
  function reopened(event: PageTransitionEvent) {
    if (event.persisted) open();
  }
  return () => {
    close();
    clearTimeout(timer);
    removeEventListener('pagehide', close);
    removeEventListener('pageshow', reopened);
  };
}
