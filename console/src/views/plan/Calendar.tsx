// The times of plans as a calendar of whole weeks: what was, what is to come, what a freeze holds back.
import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { useState } from 'react';
import { Link } from 'react-router';
import { type PlanEntry, planTimes } from '../../api/client';
import { Button, Panel, TONES, Unanswered } from '../../ui/parts';
import { useNow } from '../../ui/useNow';
import { useZone } from '../../ui/zone';
import { days, on, type Standing } from './days';
import { outcome, place, tone, why } from './entry';

const WEEKS = 4;
/** How often it is asked anew: times come by themselves. */
const PACE = 15_000;

export function Calendar({ plan }: { plan?: string }) {
  const [first, setFirst] = useState(-1);
  const utc = useZone() === 'UTC';
  const now = new Date(useNow(true));
  const all = days(now, first, WEEKS + 1, utc);
  const shown = all.slice(0, WEEKS * 7);
  const [from, until] = [shown[0] as Date, all[WEEKS * 7] as Date];
  const found = useQuery({
    queryKey: ['jobs', 'plan-times', plan, from.toISOString()],
    queryFn: () => planTimes({ plan, from: from.toISOString(), until: until.toISOString() }),
    refetchInterval: PACE,
    placeholderData: (before) => before,
  });
  const entries = found.data?.entries ?? [];
  return (
    <Panel
      title={span(from, new Date(until.getTime() - 1), utc)}
      aside={
        <span className="-my-1 flex gap-1">
          <Button look="quiet" onClick={() => setFirst(first - WEEKS)}>
            Earlier
          </Button>
          {first !== -1 && (
            <Button look="quiet" onClick={() => setFirst(-1)}>
              Today
            </Button>
          )}
          <Button look="quiet" onClick={() => setFirst(first + WEEKS)}>
            Later
          </Button>
        </span>
      }
    >
      <Unanswered question={found} />
      {found.data?.more && (
        <p className="pb-2 text-[13px] text-ink-2">There are more times than can be shown.</p>
      )}
      <ol className="grid gap-px overflow-hidden rounded-md border border-line bg-line md:grid-cols-7">
        {shown.map((day, i) => (
          <Day
            key={day.toISOString()}
            day={day}
            utc={utc}
            today={now >= day && now < (all[i + 1] as Date)}
            standing={on(entries, day, all[i + 1] as Date, outcome)}
          />
        ))}
      </ol>
    </Panel>
  );
}

const written = (day: Date, utc: boolean, how: Intl.DateTimeFormatOptions) =>
  new Intl.DateTimeFormat('en-GB', { ...how, timeZone: utc ? 'UTC' : undefined }).format(day);

const span = (from: Date, until: Date, utc: boolean) => {
  const how = { day: 'numeric', month: 'long' } as const;
  return `${written(from, utc, how)} to ${written(until, utc, { ...how, year: 'numeric' })}`;
};

type DayProps = { day: Date; utc: boolean; today: boolean; standing: Standing[] };

function Day({ day, utc, today, standing }: DayProps) {
  return (
    <li
      aria-current={today ? 'date' : undefined}
      className={clsx(
        'min-w-0 bg-panel px-1.5 py-1 md:min-h-24',
        standing.length === 0 && 'max-md:hidden',
      )}
    >
      <p className={clsx('text-[12px]', today ? 'font-bold text-sea' : 'text-ink-3')}>
        {written(day, utc, { weekday: 'short' })}{' '}
        {written(day, utc, { day: 'numeric', month: 'short' })}
      </p>
      <ul className="grid gap-0.5 pt-0.5">
        {standing.map(({ entry, times }) => (
          <li key={`${entry.plan} ${entry.at} ${entry.job}`} className="min-w-0">
            <Chip entry={entry} times={times} utc={utc} />
          </li>
        ))}
      </ul>
    </li>
  );
}

type ChipProps = { entry: PlanEntry; times: number; utc: boolean };

function Chip({ entry, times, utc }: ChipProps) {
  const time = written(new Date(entry.at), utc, { hour: '2-digit', minute: '2-digit' });
  const how = times > 1 ? `${times} times ${outcome(entry)}, from ${time}` : outcome(entry);
  const words = why(entry);
  return (
    <Link
      to={times > 1 ? `/plans/${entry.plan}` : place(entry)}
      title={`${time} ${entry.plan}: ${how}${words && `\n${words}`}`}
      className={clsx(
        'block truncate rounded px-1 py-px text-[12px] hover:underline',
        TONES[tone(entry)],
        entry.omitted === 'skipped' && 'line-through',
      )}
    >
      {times > 1 ? `${times}×` : time} {entry.plan}
      <span className="sr-only">, {how}</span>
    </Link>
  );
}
