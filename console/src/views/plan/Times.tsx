// Times of one plan, line by line; those to come can be skipped.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { type PlanEntry, skipPlan, unskipPlan } from '../../api/client';
import { Button, Failed, Tag } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';
import { Reason } from '../guard/Reason';
import { outcome, tone, why } from './entry';

export function Times({ entries }: { entries: PlanEntry[] }) {
  const may = useMay('responder');
  return (
    <ul className="flex flex-col">
      {entries.map((entry) => (
        <li
          key={`${entry.at} ${entry.job} ${entry.omitted}`}
          className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-line border-t py-1.5 first:border-t-0"
        >
          <Exact at={entry.at} />
          <Tag tone={tone(entry)}>{outcome(entry)}</Tag>
          {entry.job && (
            <Link to={`/jobs/${entry.job}`} className="text-sea hover:underline">
              job {entry.job}
            </Link>
          )}
          <span className="min-w-0 flex-1 break-words text-[13px] text-ink-2">
            {entry.by &&
              (entry.omitted === 'skipped' || !entry.due) &&
              `by ${shown(entry.by)}${why(entry) && ': '}`}
            {why(entry)}
          </span>
          {may &&
            entry.coming &&
            (entry.omitted ? <Unskip entry={entry} /> : <Skip entry={entry} />)}
        </li>
      ))}
    </ul>
  );
}

function Skip({ entry }: { entry: PlanEntry }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState('');
  return (
    <Sure
      ask="Skip…"
      title={`Skip plan ${entry.plan}?`}
      act="Skip it"
      disabled={!reason.trim()}
      onAct={async () => {
        await skipPlan(entry.plan, { due: entry.at, reason: reason.trim() });
        await queries.invalidateQueries({ queryKey: ['jobs'] });
      }}
    >
      <p>
        It does not run at <Exact at={entry.at} />; its other times stay.
      </p>
      <Reason value={reason} onType={setReason} />
    </Sure>
  );
}

function Unskip({ entry }: { entry: PlanEntry }) {
  const queries = useQueryClient();
  const kept = useMutation({
    mutationFn: () => unskipPlan(entry.plan, entry.at),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['jobs'] }),
  });
  return (
    <>
      <Button disabled={kept.isPending} onClick={() => kept.mutate()}>
        Let it run
      </Button>
      {kept.error && <Failed error={kept.error} />}
    </>
  );
}
