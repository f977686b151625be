// What people can say to a job: pause it, resume it, cancel it, go on from where it ended.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type ReactNode, useState } from 'react';
import { useNavigate } from 'react-router';
import { cancel, goOn, type JobItem, pause, resume } from '../../api/client';
import { Button, Failed } from '../../ui/parts';
import { useMay } from '../../ui/rights';

export function JobActions({ job }: { job: JobItem }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const [stopping, setStopping] = useState(false);
  const [undo, setUndo] = useState(false);
  const [why, setWhy] = useState('');
  const say = useMutation({
    mutationFn: (word: () => Promise<unknown>) => word(),
    onSuccess: () => {
      setStopping(false);
      return queries.invalidateQueries({ queryKey: ['jobs'] });
    },
  });
  const goes = job.state === 'running' || job.state === 'waiting';
  const stops = goes || job.state === 'paused' || job.state === 'queued';
  if (!may || !stops) return null;
  if (stopping) {
    return (
      <Asked
        className="flex flex-wrap items-center gap-2"
        onSubmit={() => say.mutate(() => cancel(job.id, undo, why))}
        onClose={() => setStopping(false)}
      >
        <Why label="Why it is cancelled" value={why} onType={setWhy} />
        {job.state !== 'queued' && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={undo} onChange={(e) => setUndo(e.target.checked)} />
            Take back what was done
          </label>
        )}
        <Button type="submit" disabled={say.isPending}>
          Cancel the job
        </Button>
        <Button onClick={() => setStopping(false)}>Leave it</Button>
        {say.error && <Failed error={say.error} />}
      </Asked>
    );
  }
  return (
    <span className="flex flex-wrap items-center gap-2">
      {goes && (
        <Button disabled={say.isPending} onClick={() => say.mutate(() => pause(job.id))}>
          Pause
        </Button>
      )}
      {job.state === 'paused' && (
        <Button look="go" disabled={say.isPending} onClick={() => say.mutate(() => resume(job.id))}>
          Resume
        </Button>
      )}
      <Button onClick={() => setStopping(true)}>Cancel…</Button>
      {say.error && <Failed error={say.error} />}
    </span>
  );
}

type AskedProps = {
  className: string;
  onSubmit: () => void;
  onClose: () => void;
  children: ReactNode;
};

/** A few fields in the place of a button; Escape puts the button back. */
function Asked({ className, onSubmit, onClose, children }: AskedProps) {
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onSubmit();
  };
  return (
    <form
      className={className}
      onSubmit={submit}
      onKeyDown={(e) => e.key === 'Escape' && onClose()}
    >
      {children}
    </form>
  );
}

function Why({
  label,
  value,
  onType,
}: {
  label: string;
  value: string;
  onType: (text: string) => void;
}) {
  return (
    <input
      // biome-ignore lint/a11y/noAutofocus: whoever opens it is to say why
      autoFocus
      aria-label={label}
      placeholder="Why, for those who read it later"
      className="w-64 rounded-md border border-line bg-panel px-2 py-1"
      value={value}
      onChange={(e) => onType(e.target.value)}
    />
  );
}

/** Going on from where a job failed or was stopped: what stands is shown first. */
export function FromFailed({ job }: { job: JobItem }) {
  const may = useMay('responder');
  const navigate = useNavigate();
  const [why, setWhy] = useState('');
  const would = useMutation({ mutationFn: () => goOn(job.id, true) });
  const go = useMutation({
    mutationFn: () => goOn(job.id, false, why),
    onSuccess: (made) => navigate(`/jobs/${made.job}`),
  });
  if (!may || job.parent || !['failed', 'cancelled'].includes(job.state)) return null;
  const error = would.error ?? go.error;
  if (!would.data) {
    return (
      <span className="flex items-center gap-2">
        <Button onClick={() => would.mutate()} disabled={would.isPending}>
          From where it ended…
        </Button>
        {error && <Failed error={error} />}
      </span>
    );
  }
  const { stand, looked_at, from } = would.data;
  return (
    <Asked
      className="flex max-w-xl flex-col gap-2 rounded-md border border-line bg-panel px-3 py-2 text-[13px]"
      onSubmit={() => go.mutate()}
      onClose={() => would.reset()}
    >
      <p>
        What <code>{stand.join(', ')}</code> did stands
        {looked_at.length > 0 && (
          <>
            , <code>{looked_at.join(', ')}</code> if its probe says so
          </>
        )}
        ; a new job begins with <code>{from}</code>.
      </p>
      <span className="flex flex-wrap items-center gap-2">
        <Why label="Why it goes on" value={why} onType={setWhy} />
        <Button type="submit" look="go" disabled={go.isPending}>
          Go on
        </Button>
        <Button onClick={() => would.reset()}>Leave it</Button>
      </span>
      {error && <Failed error={error} />}
    </Asked>
  );
}
