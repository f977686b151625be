// Trials: where they are seen, and clearing them away.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type ClearedTrials, clearTrials } from '../../api/client';
import { Button, Failed, Panel } from '../../ui/parts';
import { some } from '../../ui/words';

const LISTS = [
  ['alerts', '/alerts?trial=true'],
  ['alarms', '/alarms?trial=true&state=any'],
  ['jobs', '/jobs?trial=true'],
] as const;

const words = ({ alerts, alarms, jobs, under_way }: ClearedTrials) =>
  `${some(alerts, 'alert')}, ${some(alarms, 'alarm')} and ${some(jobs, 'job')} are gone${
    under_way > 0 ? `; ${some(under_way, 'job')} are not over and stay` : ''
  }.`;

export function Trials({ may }: { may: boolean }) {
  const queries = useQueryClient();
  const cleared = useMutation({
    mutationFn: clearTrials,
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <Panel title="Trials">
      <p className="pb-2 text-[13px] text-ink-2">
        What was made up is counted nowhere, and nothing leaves for it. Make one up on the page of
        its source.
      </p>
      <p className="flex flex-wrap gap-3 pb-2">
        {LISTS.map(([name, to]) => (
          <Link key={name} to={to} className="font-semibold text-sea hover:underline">
            {name}
          </Link>
        ))}
      </p>
      {may && (
        <Button disabled={cleared.isPending} onClick={() => cleared.mutate()}>
          {cleared.isPending ? 'Clearing' : 'Clear all trials away'}
        </Button>
      )}
      {cleared.error && <Failed error={cleared.error} />}
      {cleared.data && (
        <p role="status" className="pt-2 text-[13px]">
          {words(cleared.data)}
        </p>
      )}
    </Panel>
  );
}
