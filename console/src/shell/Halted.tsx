// That all jobs are halted, wherever one is, and the way to let them go on.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { liftHalt, watch } from '../api/client';
import { Button, Failed } from '../ui/parts';
import { shown } from '../ui/principal';
import { useMay } from '../ui/rights';
import { Exact } from '../ui/Time';

export function Halted() {
  const queries = useQueryClient();
  const may = useMay('responder');
  const [asked, setAsked] = useState(false);
  const seen = useQuery({ queryKey: ['watch', '1h'], queryFn: () => watch('1h') });
  const lift = useMutation({
    mutationFn: liftHalt,
    onSuccess: () => setAsked(false),
    onSettled: () => queries.invalidateQueries(),
  });
  const halt = seen.data?.halt;
  if (!halt) return null;
  return (
    <div
      role="status"
      className="flex flex-wrap items-center gap-3 rounded-md bg-bad-soft px-3 py-1.5 text-bad"
    >
      <p className="min-w-0 flex-1">
        <b className="font-semibold">
          No job is begun{halt.running ? ', and those under way are paused' : ''}.
        </b>{' '}
        Halted since <Exact at={halt.since} /> by {shown(halt.by)}: {halt.reason}
      </p>
      {may && !asked && <Button onClick={() => setAsked(true)}>Lift the halt</Button>}
      {may && asked && (
        <>
          <span>
            All jobs that wait are begun then
            {halt.running ? ', and those that it paused go on' : ''}.
          </span>
          <Button look="go" disabled={lift.isPending} onClick={() => lift.mutate()}>
            Let them begin
          </Button>
          <Button onClick={() => setAsked(false)}>Not yet</Button>
        </>
      )}
      {lift.error && <Failed error={lift.error} />}
    </div>
  );
}
