// The button that halts all jobs: asked twice, with what would stop.
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { nodes, setHalt, watch } from '../../api/client';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { some } from '../../ui/words';
import { Reason } from '../guard/Reason';

export function Halt() {
  const may = useMay('responder');
  const queries = useQueryClient();
  const [why, setWhy] = useState('');
  const [running, setRunning] = useState(false);
  const found = useQuery({ queryKey: ['nodes'], queryFn: nodes });
  const seen = useQuery({ queryKey: ['watch', '1h'], queryFn: () => watch('1h') });
  const stands = seen.data?.halt;
  if (!may || stands?.running) return null;
  const queued = found.data?.backlog.queued;
  const atWork = seen.data?.under_way ?? [];
  return (
    <Sure
      ask={stands ? 'Pause what is under way…' : 'Halt all jobs…'}
      title={stands ? 'Pause what is under way?' : 'Halt all jobs?'}
      act={stands ? 'Pause it' : 'Halt them'}
      disabled={!why.trim()}
      onAct={async () => {
        await setHalt(why.trim(), running || !!stands);
        await Promise.all(
          ['halt', 'watch', 'nodes'].map((key) => queries.invalidateQueries({ queryKey: [key] })),
        );
      }}
    >
      <p>
        No node begins a job or takes one up until the halt is lifted
        {queued ? `, ${some(queued, 'job')} that wait for their turn among them` : ''}. Alerts are
        taken in and rules decide as before.
      </p>
      <label className="mt-2 flex items-baseline gap-2">
        <input
          type="checkbox"
          checked={running || !!stands}
          disabled={!!stands}
          onChange={(event) => setRunning(event.target.checked)}
        />
        <span>
          Pause what is under way as well: calls that are out come to their end, and nothing new
          leaves.
        </span>
      </label>
      {atWork.length > 0 && (
        <ul className="mt-1 max-h-40 overflow-auto pl-6 text-[13px]">
          {atWork.map((job) => (
            <li key={job.id} className="break-words">
              {job.id} <b className="font-semibold">{job.runbook}</b> {job.target}
            </li>
          ))}
        </ul>
      )}
      <Reason value={why} onType={setWhy} />
    </Sure>
  );
}
