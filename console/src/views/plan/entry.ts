// A time of a plan in words and in its tone.
import type { PlanEntry } from '../../api/client';
import type { Tone } from '../../ui/parts';

const GONE_BADLY = ['failed', 'refused', 'expired', 'unsure'];

/** How a time ended, or what becomes of it. */
export function outcome(entry: PlanEntry): string {
  if (entry.omitted) return entry.omitted;
  if (entry.state === 'succeeded' && entry.effect && entry.effect !== 'not checked')
    return entry.effect;
  if (entry.state) return entry.state;
  if (!entry.frozen) return 'to come';
  return entry.frozen.too_late ? 'held back' : 'held at first';
}

export function tone(entry: PlanEntry): Tone {
  if (entry.omitted) return entry.omitted === 'skipped' ? 'plain' : 'warn';
  if (entry.state === 'succeeded') return entry.effect === 'unconfirmed' ? 'bad' : 'good';
  if (entry.state && GONE_BADLY.includes(entry.state)) return 'bad';
  if (entry.state) return 'sea';
  return entry.frozen ? 'warn' : 'sea';
}

/** Why, in words. */
export function why(entry: PlanEntry): string {
  if (!entry.frozen) return entry.reason ?? '';
  const { guard, because, too_late } = entry.frozen;
  return `guard ${guard}: ${because}${too_late ? '; it would not begin in time' : ''}`;
}

/** Where more of it stands. */
export const place = (entry: PlanEntry): string =>
  entry.job ? `/jobs/${entry.job}` : `/plans/${entry.plan}`;
