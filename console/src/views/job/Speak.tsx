// What people can say to a job: hold it, let it go on, stop it, and what became of a step that nobody knows of.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { cancel, type JobDetail, type JobItem, pause, resolve, resume } from '../../api/client';
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

/** What became of steps of which it is not known: asked as soon as one is, though others of the job still wait. */
export function Resolve({ detail }: { detail: JobDetail }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const unsure = rows(detail).flatMap((row) =>
    row.kind === 'step' && row.step.state === 'unsure' ? [row.step] : [],
  );
  const say = useMutation({
    mutationFn: ({ as, place }: { as: 'done' | 'again' | 'failed'; place: string }) =>
      resolve(detail.job.id, as, place),
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
      {say.error && <Failed error={say.error} />}
    </Panel>
  );
}
