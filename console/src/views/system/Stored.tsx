// What is stored, for how long, and changing that: what would go is told first.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { type Keep, keepFor, type Storage, storage } from '../../api/client';
import { Button, Facts, Failed, Panel, Unanswered } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Exact } from '../../ui/Time';
import { rough } from '../../ui/time';
import { bytes, some } from '../../ui/words';

export function Stored() {
  const may = useMay('admin');
  const found = useQuery({ queryKey: ['storage'], queryFn: storage, staleTime: 30_000 });
  const data = found.data;
  return (
    <div className="grid gap-3.5 lg:grid-cols-2">
      <Panel title="What is stored" aside={data && bytes(data.bytes)}>
        <Unanswered question={found} />
        {data && (
          <Facts
            rows={data.kinds.map((kind) => [
              kind.name,
              `${bytes(kind.bytes)}, about ${some(kind.rows, 'row')}`,
            ])}
          />
        )}
      </Panel>
      <Panel title="For how long">
        {data && <Facts rows={kept(data)} />}
        {data && may && <Change />}
      </Panel>
      {data && data.days.length > 0 && (
        <Panel
          title="Alerts and verdicts by day"
          aside={data.days.length}
          className="lg:col-span-2"
        >
          <ul className="max-h-80 overflow-auto text-[13px]">
            {data.days.map((day) => (
              <li
                key={day.since}
                className="flex flex-wrap gap-x-4 border-line border-t py-1 first:border-t-0"
              >
                <Exact at={day.since} />
                <span className="text-ink-2">
                  {day.alerts.toLocaleString('en')} alerts, {bytes(day.alert_bytes)};{' '}
                  {day.verdicts.toLocaleString('en')} verdicts, {bytes(day.verdict_bytes)}
                </span>
                <span className="text-ink-3">
                  {day.goes_at ? (
                    <>
                      goes <Exact at={day.goes_at} />
                    </>
                  ) : (
                    'goes on'
                  )}
                </span>
              </li>
            ))}
          </ul>
        </Panel>
      )}
    </div>
  );
}

const DAY = 86_400;
const long = (seconds: number) =>
  seconds % DAY === 0 ? some(seconds / DAY, 'day') : rough(seconds * 1000);

function kept({ kept, ids_known_seconds }: Storage): [string, React.ReactNode][] {
  return [
    ['alerts', long(kept.alerts_seconds)],
    ...Object.entries(kept.sources_seconds).map(([source, seconds]): [string, React.ReactNode] => [
      `of ${source}`,
      long(seconds),
    ]),
    ['unreadable', long(kept.unreadable_seconds)],
    ['tries of jobs', long(kept.attempts_seconds)],
    ['ids', `known for ${long(ids_known_seconds)} at least`],
  ];
}

const FIELDS = ['alerts', 'unreadable', 'attempts'] as const;

function Change() {
  const queries = useQueryClient();
  const [typed, setTyped] = useState<Partial<Record<(typeof FIELDS)[number], string>>>({});
  const asked: Keep = Object.fromEntries(
    FIELDS.flatMap((name) => (typed[name]?.trim() ? [[name, typed[name].trim()]] : [])),
  );
  const said = JSON.stringify(asked);
  const [shown, setShown] = useState<string>();
  const look = useMutation({
    mutationFn: () => keepFor(asked, true),
    onMutate: () => setShown(said),
  });
  const keep = useMutation({
    mutationFn: () => keepFor(asked, false),
    onSuccess: () => {
      setTyped({});
      look.reset();
      return queries.invalidateQueries({ queryKey: ['storage'] });
    },
  });
  const fits = look.data && shown === said;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    look.mutate();
  };
  return (
    <details className="mt-3 border-line border-t pt-2">
      <summary className="cursor-pointer text-[13px] text-sea">Change it</summary>
      <form onSubmit={submit} className="flex flex-col gap-2 pt-2">
        {FIELDS.map((name) => (
          <label key={name} className="flex items-center gap-2 text-[13px]">
            <span className="w-24">{name}</span>
            <input
              className="w-28 rounded-md border border-line bg-panel px-2 py-1"
              placeholder="as it is"
              value={typed[name] ?? ''}
              onChange={(event) => setTyped({ ...typed, [name]: event.target.value })}
            />
          </label>
        ))}
        <p className="text-[12px] text-ink-3">
          A length such as 14d. A time of its own for a source is set by{' '}
          <code>arvok storage keep</code>.
        </p>
        {fits && (
          <p role="status" className="text-[13px]">
            Within the next minutes {some(look.data.goes.days, 'day')} with{' '}
            {some(look.data.goes.alerts, 'alert')} would go,{' '}
            {some(look.data.goes.unreadable, 'payload')} that could not be read,{' '}
            {some(look.data.goes.attempts, 'try', 'tries')} of jobs.
          </p>
        )}
        <span className="flex gap-2">
          <Button type="submit" disabled={said === '{}'}>
            See what would go
          </Button>
          <Button look="go" disabled={!fits || keep.isPending} onClick={() => keep.mutate()}>
            Keep for so long
          </Button>
        </span>
        {look.error && <Failed error={look.error} />}
        {keep.error && <Failed error={keep.error} />}
      </form>
    </details>
  );
}
