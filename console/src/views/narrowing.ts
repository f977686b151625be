// What leaves the strait, and how high it is drawn.
import type { Narrowing as Numbers } from '../api/client';

export type Side = { count: number; label: string; to: string; bad?: boolean };

/** Heights grow with the logarithm: a hundred alerts must still be seen beside a million. */
export const height = (n: number) => Math.max(4, Math.log10(n + 1) * 21);

export function sides(s: Numbers): Side[][] {
  return [
    [{ count: s.repeated, label: 'repeated deliveries', to: '/alerts' }],
    [{ count: s.unmatched, label: 'without a rule', to: '/alerts?verdict=unmatched' }],
    [
      { count: s.folded, label: 'folded', to: '/alerts?verdict=folded' },
      { count: s.held, label: 'held back', to: '/alerts?verdict=held' },
      { count: s.proposed, label: 'proposed', to: '/proposals' },
      { count: s.watched, label: 'watched', to: '/alerts?verdict=watched' },
    ],
    [
      { count: s.under_way, label: 'under way', to: '/jobs?state=queued,running,waiting,paused' },
      { count: s.unproved, label: 'without proof', to: '/jobs?state=succeeded' },
      { count: s.failed, label: 'failed', to: '/jobs?state=failed,refused,expired,unsure', bad: true },
    ],
  ];
}
