// Times for people: on the clock of the chosen zone, exact, and how long ago.
import { type Zone, zone } from './zone';

const name = (of: Zone) => (of === 'UTC' ? 'UTC' : undefined);

const parts = (t: string | Date, of: Zone) => {
  const format = new Intl.DateTimeFormat('en-GB', {
    timeZone: name(of),
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hourCycle: 'h23',
  });
  const found = new Map(format.formatToParts(new Date(t)).map((part) => [part.type, part.value]));
  const part = (type: Intl.DateTimeFormatPartTypes) => found.get(type) ?? '';
  return {
    date: `${part('year')}-${part('month')}-${part('day')}`,
    day: Number(part('day')),
    time: `${part('hour')}:${part('minute')}:${part('second')}`,
  };
};

/** What the zone is called at a time, such as `UTC` or `GMT+1`. */
export function zoneName(at: string | Date = new Date(), of: Zone = zone()): string {
  const format = new Intl.DateTimeFormat('en-GB', { timeZone: name(of), timeZoneName: 'short' });
  return (
    format.formatToParts(new Date(at)).find((part) => part.type === 'timeZoneName')?.value ?? 'UTC'
  );
}

/** The time of day; the day as well where that is not today. */
export function clock(t: string, of: Zone = zone(), now = new Date()): string {
  const at = parts(t, of);
  if (at.date === parts(now, of).date) return at.time;
  const month = new Intl.DateTimeFormat('en-GB', { timeZone: name(of), month: 'short' }).format(
    new Date(t),
  );
  return `${at.day} ${month} ${at.time.slice(0, 5)}`;
}

/** The time of day and what its zone is called. */
export const clockIn = (t: string, of: Zone = zone()) => `${clock(t, of)} ${zoneName(t, of)}`;

export function exact(t: string, of: Zone = zone()): string {
  const at = parts(t, of);
  return `${at.date} ${at.time} ${zoneName(t, of)}`;
}

export function rough(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 10) return s < 1 ? `${Math.round(s * 1000)} ms` : `${s.toFixed(1)} s`;
  if (s < 60) return `${Math.floor(s)} s`;
  if (s < 600) return `${Math.floor(s / 60)} min ${Math.floor(s % 60)} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

export const between = (from: string, to: string | null | undefined, now: number) =>
  rough((to ? Date.parse(to) : now) - Date.parse(from));
