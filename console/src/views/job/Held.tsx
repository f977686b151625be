// That a guard holds a job, why, and how somebody overrules it.
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { guard, type JobDetail, overrule } from '../../api/client';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';
import { Reason } from '../guard/Reason';

export function Held({ detail }: { detail: JobDetail }) {
  const { job } = detail;
  return (
    <>
      {job.held && <Box id={job.id} held={job.held} />}
      {detail.overruled?.map((one) => (
        <p key={one.guard} className="text-[13px] text-ink-2">
          Guard {one.guard} was overruled by {shown(one.by)} <Exact at={one.at} />: {one.reason}
        </p>
      ))}
    </>
  );
}

type BoxProps = { id: number; held: NonNullable<JobDetail['job']['held']> };

function Box({ id, held }: BoxProps) {
  const queries = useQueryClient();
  const [why, setWhy] = useState('');
  const found = useQuery({ queryKey: ['guards', held.guard], queryFn: () => guard(held.guard) });
  const may = useMay(found.data?.overrule ?? 'admin');
  return (
    <div
      role="status"
      className="flex flex-wrap items-center gap-x-3 gap-y-1 rounded-md bg-warn-soft px-3 py-2"
    >
      <p className="min-w-0 flex-1 break-words">
        Held since <Exact at={held.since} /> by guard{' '}
        <Link to={`/guards/${held.guard}`} className="font-semibold hover:underline">
          {held.guard}
        </Link>
        : {held.why}
        {held.until && (
          <>
            , until <Exact at={held.until} />
          </>
        )}
      </p>
      {may && (
        <Sure
          ask="Overrule…"
          title={`Let job ${id} begin all the same?`}
          act="Let it begin"
          disabled={!why.trim()}
          onAct={async () => {
            await overrule(id, held.guard, why.trim());
            await queries.invalidateQueries();
          }}
        >
          <p>
            Guard {held.guard} is not asked any more for this job; others are. It stands in the
            record.
          </p>
          <Reason value={why} onType={setWhy} />
        </Sure>
      )}
    </div>
  );
}
