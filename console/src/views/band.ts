// The band from alerts to effects: its numbers, where each leads, and how high it is drawn.
import type { Narrowing as Numbers } from '../api/client';

/** A number of the band; the rows that it counts, where there are rows. */
export type Counted = { count: number; label: string; to?: string; bad?: boolean };

/** Heights grow with the logarithm: a hundred alerts must still be seen beside a million. */
export const height = (n: number) => Math.max(4, Math.log10(n + 1) * 21);

/** The alerts of the window that came so far. */
const rows = (s: Numbers, outcome: string) =>
  `/alerts?${new URLSearchParams({ outcome, since: s.from, until: s.to })}`;

/** From received to confirmed, and what leaves behind each. */
export function band(s: Numbers): { columns: Counted[]; leaving: Counted[][] } {
  const counted = (count: number, label: string, outcome: string): Counted => ({
    count,
    label,
    to: rows(s, outcome),
  });
  return {
    columns: [
      { count: s.received, label: 'Received', to: '/sources' },
      counted(s.distinct, 'Distinct', 'distinct'),
      counted(s.matched, 'Matched', 'matched'),
      counted(s.dispatched, 'Dispatched', 'dispatched'),
      counted(s.confirmed, 'Confirmed', 'confirmed'),
    ],
    leaving: [
      // Of what was delivered once more no row is made.
      [{ count: s.repeated, label: 'repeated deliveries' }],
      [counted(s.unmatched, 'without a rule', 'unmatched')],
      [
        counted(s.folded, 'folded', 'folded'),
        counted(s.held, 'held back', 'held'),
        counted(s.proposed, 'proposed', 'proposed'),
        counted(s.watched, 'watched', 'watched'),
      ],
      [
        counted(s.under_way, 'under way', 'under-way'),
        counted(s.unproved, 'without proof', 'unproved'),
        counted(s.cancelled ?? 0, 'cancelled', 'cancelled'),
        { ...counted(s.failed, 'failed', 'failed'), bad: true },
      ],
    ],
  };
}
