// What Watch says in one line.
import type { Watch as Seen } from '../api/client';

/** How many things wait for a person. */
export const waiting = (seen: Seen) =>
  seen.decisions.length +
  seen.needs_you.length +
  seen.proposals.length +
  (seen.broken?.length ?? 0);

export function headline(seen: Seen): string {
  if (seen.sources === 0) return 'Nothing is published yet.';
  const needs = waiting(seen);
  if (needs === 1) return 'One thing needs you.';
  if (needs > 1) return `${needs} things need you.`;
  if (seen.under_way.length > 0) return 'At work. Nothing needs you.';
  return seen.alarms_open > 0 ? 'Nothing needs you.' : 'Quiet. Nothing needs you.';
}
