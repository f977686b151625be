// Days of a calendar: whole weeks, and what stands on each of their days.
import type { PlanEntry } from '../../api/client';

const DAY = 86_400_000;

/** What stands on a day: a time, or several of one plan that went the same way. */
export type Standing = { entry: PlanEntry; times: number };

/** The beginnings of so many weeks' days, from the Monday of a week on that is so many weeks away. */
export function days(now: Date, from: number, weeks: number, utc: boolean): Date[] {
  const start = new Date(now);
  if (utc) start.setUTCHours(0, 0, 0, 0);
  else start.setHours(0, 0, 0, 0);
  const weekday = ((utc ? start.getUTCDay() : start.getDay()) + 6) % 7;
  return Array.from({ length: weeks * 7 }, (_, i) => {
    const offset = from * 7 - weekday + i;
    if (utc) return new Date(start.getTime() + offset * DAY);
    const day = new Date(start);
    day.setDate(day.getDate() + offset);
    return day;
  });
}

/** What stands on a day that ends where the next begins; more than so many times of one plan that
 * go the same way are one line. */
export function on(
  entries: PlanEntry[],
  from: Date,
  until: Date,
  outcome: (entry: PlanEntry) => string,
  most = 3,
): Standing[] {
  const own = entries.filter((entry) => {
    const at = Date.parse(entry.at);
    return at >= from.getTime() && at < until.getTime();
  });
  const alike = new Map<string, PlanEntry[]>();
  for (const entry of own) {
    const key = `${entry.plan} ${outcome(entry)}`;
    alike.set(key, [...(alike.get(key) ?? []), entry]);
  }
  const standing = [...alike.values()].flatMap((all) =>
    all.length > most
      ? [{ entry: all[0] as PlanEntry, times: all.reduce((sum, { times }) => sum + times, 0) }]
      : all.map((entry) => ({ entry, times: entry.times })),
  );
  return standing.sort((a, b) => Date.parse(a.entry.at) - Date.parse(b.entry.at));
}
