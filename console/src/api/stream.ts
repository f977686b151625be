// The changes that the service tells of, by one connection for all tabs of a browser: one tab follows and passes on what
// it hears. When that tab goes, another takes its place and has all of them ask anew.
import type { Change } from './client';

const NAME = 'arvok-changes';
const REFUSED = 5000;

type Broadcast = { live: boolean } | { change: Change } | { asks: true };

export type Follower = { heard: (change: Change) => void; live: (live: boolean) => void };

/** Follows until the function that comes back is called. */
export function follow(follower: Follower): () => void {
  const channel = new BroadcastChannel(NAME);
  const over = new AbortController();
  let source: EventSource | undefined;
  let again: ReturnType<typeof setTimeout> | undefined;
  let first = true;
  const take = (told: Broadcast) => {
    if ('live' in told) follower.live(told.live);
    if ('change' in told) follower.heard(told.change);
    // Whoever comes later asks how it stands; only the tab that follows knows.
    if ('asks' in told && source)
      channel.postMessage({ live: source.readyState === EventSource.OPEN } satisfies Broadcast);
  };
  const tell = (told: Broadcast) => {
    take(told);
    channel.postMessage(told);
  };
  const open = () => {
    source?.close();
    clearTimeout(again);
    source = new EventSource('/api/v1/stream');
    source.onopen = () => {
      tell({ live: true });
      // What happened between two that follow nobody has heard.
      if (!first) tell({ change: { reset: true } as Change });
      first = false;
    };
    source.onerror = () => {
      tell({ live: false });
      // A refusal (too many follow already) is final for an event source, unlike a lost connection.
      if (source?.readyState === EventSource.CLOSED) again = setTimeout(open, REFUSED);
    };
    source.onmessage = (event) => tell({ change: JSON.parse(event.data) as Change });
  };
  channel.onmessage = (event) => take(event.data as Broadcast);
  channel.postMessage({ asks: true } satisfies Broadcast);
  const close = () => {
    clearTimeout(again);
    source?.close();
    source = undefined;
  };
  const lead = () => {
    open();
    return new Promise<void>((done) => {
      over.signal.addEventListener('abort', () => {
        close();
        done();
      });
    });
  };
  // Without TLS beyond the machine itself there are no locks: each tab follows by itself then.
  if (!navigator.locks) {
    void lead();
    return () => {
      over.abort();
      channel.close();
    };
  }
  // The first tab has its turn at once and needs nobody to ask anew.
  navigator.locks
    .request(NAME, { ifAvailable: true }, async (turn) => turn && lead())
    .then(() => {
      if (over.signal.aborted) return undefined;
      first = false;
      return navigator.locks.request(NAME, { signal: over.signal }, lead);
    })
    .catch(() => undefined);
  return () => {
    over.abort();
    channel.close();
  };
}
