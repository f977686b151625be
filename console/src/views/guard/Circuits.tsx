// Circuits that are open: which runbooks rules propose and do not dispatch, and how they go on.
import { useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { type GuardItem, resumeGuard } from '../../api/client';
import { useMay } from '../../ui/rights';
import { runbookPath } from '../../ui/runbookPath';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';
import { some } from '../../ui/words';
import { Reason } from './Reason';

export function Circuits({ guard }: { guard: GuardItem }) {
  const may = useMay(guard.overrule);
  const queries = useQueryClient();
  const [why, setWhy] = useState('');
  return (
    <>
      {guard.circuits.map((open) => (
        <div
          key={open.runbook}
          className="mt-2 flex flex-wrap items-center gap-x-3 gap-y-1 rounded-md bg-warn-soft px-3 py-1.5"
        >
          <p className="min-w-0 flex-1 break-words">
            Rules propose{' '}
            <Link to={runbookPath(open.runbook)} className="font-semibold hover:underline">
              {open.runbook}
            </Link>{' '}
            and dispatch none: by <Exact at={open.since} /> {some(open.failures, 'job')} had failed
            or not helped.
          </p>
          {may && (
            <Sure
              ask="Let it go on…"
              title={`Let ${open.runbook} go on?`}
              act="Let it go on"
              disabled={!why.trim()}
              onAct={async () => {
                await resumeGuard(guard.name, open.runbook, why.trim());
                await queries.invalidateQueries();
              }}
            >
              <p>Rules dispatch it again, and failures are counted from now on.</p>
              <Reason value={why} onType={setWhy} />
            </Sure>
          )}
        </div>
      ))}
    </>
  );
}
