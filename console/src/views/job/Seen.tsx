// Setting a job that ended badly aside from what needs a person.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type JobDetail, setSeen } from '../../api/client';
import { Button, Failed } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Time } from '../../ui/Time';

export function SetSeen({ job, undo = false }: { job: number; undo?: boolean }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const see = useMutation({
    mutationFn: () => setSeen(job, undo),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ['watch'] });
      queries.invalidateQueries({ queryKey: ['jobs'] });
    },
  });
  if (!may) return null;
  return (
    <span className="flex flex-wrap items-center gap-2 py-1">
      <Button onClick={() => see.mutate()} disabled={see.isPending}>
        {undo ? 'Not seen' : 'Seen'}
      </Button>
      {see.error && <Failed error={see.error} />}
    </span>
  );
}

/** Who has set it aside, or the button that does. */
export function Seen({ detail }: { detail: JobDetail }) {
  const { job, seen } = detail;
  const badly =
    ['failed', 'refused', 'expired'].includes(job.state) || job.effect === 'unconfirmed';
  if (!badly || job.parent || job.state === 'unsure') return null;
  if (!seen) return <SetSeen job={job.id} />;
  return (
    <span className="flex flex-wrap items-center gap-2 text-[13px] text-ink-3">
      <span>
        Seen by {shown(seen.by)}, <Time at={seen.at} />
      </span>
      <SetSeen job={job.id} undo />
    </span>
  );
}
