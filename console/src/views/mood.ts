// What Watch says in one line.
import type { Watch as Seen } from '../api/client';

export function mood(seen: Seen): string {
  if (seen.sources === 0) return 'Nothing is published yet.';
  const needs = seen.decisions.length + seen.needs_you.length + seen.proposals.length;
  if (needs === 1) return 'One thing needs you.';
  if (needs > 1) return `${needs} things need you.`;
  if (seen.under_way.length > 0) return 'At work. Nothing needs you.';
  return seen.alarms_open > 0 ? 'Nothing needs you.' : 'Quiet. Nothing needs you.';
}
