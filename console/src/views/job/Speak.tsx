// What people can say to a job: hold it, let it go on, stop it, and what became of a step that nobody knows of.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { cancel, goOn, type JobDetail, type JobItem, pause, resolve, resume } from '../../api/client';
import { Button, Failed, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { rows } from './rows';

export function Speak({ job }: { job: JobItem }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const [stopping, setStopping] = useState(false);
  const [undo, setUndo] = useState(false);
  const [why, setWhy] = useState('');
  const say = useMutation({
    mutationFn: (word: () => Promise<unknown>) => word(),
    onSuccess: () => {
      setStopping(false);
      queries.invalidateQueries({ queryKey: ['jobs'] });
    },
  });
  const goes = job.state === 'running' || job.state === 'waiting';
  const stops = goes || job.state === 'paused' || job.state === 'queued';
  if (!may || !stops) return null;
  if (stopping) {
    return (
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          say.mutate(() => cancel(job.id, undo, why));
        }}
      >
        <input
          aria-label="Why it is stopped"
          placeholder="Why, for those who read it later"
          className="w-64 rounded-md border border-line bg-panel px-2 py-1"
          value={why}
          onChange={(e) => setWhy(e.target.value)}
        />
        {job.state !== 'queued' && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={undo} onChange={(e) => setUndo(e.target.checked)} />
            Take back what was done
          </label>
        )}
        <Button type="submit">Stop the job</Button>
        <Button onClick={() => setStopping(false)}>Leave it</Button>
        {say.error && <Failed error={say.error} />}
      </form>
    );
  }
  return (
    <span className="flex flex-wrap items-center gap-2">
      {goes && <Button onClick={() => say.mutate(() => pause(job.id))}>Hold</Button>}
      {job.state === 'paused' && (
        <Button look="go" onClick={() => say.mutate(() => resume(job.id))}>
          Go on
        </Button>
      )}
      <Button onClick={() => setStopping(true)}>Stop…</Button>
      {say.error && <Failed error={say.error} />}
    </span>
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
    <form
      className="flex max-w-xl flex-col gap-2 rounded-md border border-line bg-panel px-3 py-2 text-[13px]"
      onSubmit={(e) => {
        e.preventDefault();
        go.mutate();
      }}
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
        <input
          aria-label="Why it goes on"
          placeholder="Why, for those who read it later"
          className="w-64 rounded-md border border-line bg-panel px-2 py-1"
          value={why}
          onChange={(e) => setWhy(e.target.value)}
        />
        <Button type="submit" look="go" disabled={go.isPending}>
          Go on
        </Button>
        <Button onClick={() => would.reset()}>Leave it</Button>
      </span>
      {error && <Failed error={error} />}
    </form>
  );
}

/** What became of steps of which it is not known: asked as soon as one is, though others of the job still wait. */
export function Resolve({ detail }: { detail: JobDetail }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const unsure = rows(detail).flatMap((row) =>
    row.kind === 'step' && row.step.state === 'unsure' ? [row.step] : [],
  );
  const [gave, setGave] = useState('');
  const say = useMutation({
    mutationFn: ({ as, place }: { as: 'done' | 'again' | 'failed'; place: string }) =>
      resolve(detail.job.id, as, place, as === 'done' && gave.trim() ? JSON.parse(gave) : undefined),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['jobs'] }),
  });
  if (detail.job.state !== 'unsure' && !(detail.job.state === 'waiting' && unsure.length > 0)) return null;
  if (!may) {
    return (
      <Panel title="Was the step done?">
        <Needs least="responder">Saying what became of it</Needs>
      </Panel>
    );
  }
  return (
    <Panel title="Was the step done?">
      <p className="pb-2 text-ink-2">
        Look at the target, then say what became of the step. The job goes on from there.
      </p>
      {unsure.map((step) => (
        <div key={step.place} className="flex flex-wrap items-center gap-2 py-1">
          <code className="pr-2">{step.place}</code>
          <Button look="go" onClick={() => say.mutate({ as: 'done', place: step.place })}>
            It was done
          </Button>
          <Button onClick={() => say.mutate({ as: 'again', place: step.place })}>Do it again</Button>
          <Button onClick={() => say.mutate({ as: 'failed', place: step.place })}>It failed</Button>
        </div>
      ))}
      {unsure.length > 0 && (
        <label className="block pt-1 text-[13px] text-ink-2">
          What it gave, as JSON, if later steps read it
          <input
            className="mono mt-1 block w-full max-w-xl rounded-md border border-line bg-panel px-2 py-1 text-ink"
            placeholder='{"size_gib": 48}'
            value={gave}
            onChange={(e) => setGave(e.target.value)}
          />
        </label>
      )}
      {say.error && <Failed error={say.error} />}
    </Panel>
  );
}
