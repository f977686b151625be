// What became of steps of which it is not known: each is chosen, with how that is known, and then said.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useId, useState } from 'react';
import { type JobDetail, resolve } from '../../api/client';
import { Button, Failed, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { rows } from './rows';

type Became = 'done' | 'again' | 'failed';

/** Each answer, and what it does. */
const ANSWERS: [Became, string, string][] = [
  ['done', 'It was done', 'the job goes on behind it; nothing is sent'],
  ['again', 'Do it again', 'the step is begun once more: what it asks for is sent again'],
  [
    'failed',
    'It failed',
    'the job goes on as after a failure: what it would take back or mend then, it does',
  ],
];

/** Asked as soon as one is, though others of the job still wait. */
export function Resolve({ detail }: { detail: JobDetail }) {
  const may = useMay('responder');
  const unsure = rows(detail).flatMap((row) =>
    row.kind === 'step' && row.step.state === 'unsure' ? [row.step] : [],
  );
  if (detail.job.state !== 'unsure' && !(detail.job.state === 'waiting' && unsure.length > 0))
    return null;
  return (
    <Panel title="Was the step done?">
      {!may && <Needs least="responder">Saying what became of it</Needs>}
      {may && (
        <p className="pb-2 text-ink-2">
          Look at the target first, then say what became of the step.
        </p>
      )}
      {may &&
        unsure.map((step) => <Step key={step.place} job={detail.job.id} place={step.place} />)}
    </Panel>
  );
}

const FIELD =
  'mt-1 block w-full max-w-xl rounded-md border border-line bg-panel px-2 py-1 text-ink';

function Step({ job, place }: { job: number; place: string }) {
  const queries = useQueryClient();
  const id = useId();
  const [as, setAs] = useState<Became>();
  const [why, setWhy] = useState('');
  const [gave, setGave] = useState('');
  const say = useMutation({
    mutationFn: (as: Became) =>
      resolve(
        job,
        as,
        place,
        as === 'done' && gave.trim() ? json(gave) : undefined,
        why.trim() || undefined,
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['jobs'] }),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (as) say.mutate(as);
  };
  return (
    <form
      onSubmit={submit}
      className="flex flex-col gap-2 border-line border-t py-2 first-of-type:border-t-0"
    >
      <fieldset className="flex flex-col gap-1">
        <legend className="pb-1">
          Step <code>{place}</code>
        </legend>
        {ANSWERS.map(([value, words, does]) => (
          <label key={value} className="flex items-baseline gap-2">
            <input
              type="radio"
              name={`became-${id}`}
              value={value}
              checked={as === value}
              onChange={() => setAs(value)}
            />
            <span>
              {words}: <span className="text-ink-2">{does}</span>
            </span>
          </label>
        ))}
      </fieldset>
      {as === 'done' && (
        <label className="block text-[13px] text-ink-2">
          What it gave, as JSON, if later steps read it
          <input
            className={`mono ${FIELD}`}
            placeholder='{"size_gib": 48}'
            value={gave}
            onChange={(e) => setGave(e.target.value)}
          />
        </label>
      )}
      <label className="block text-[13px] text-ink-2">
        How that is known, for those who read it later
        <input
          className={FIELD}
          maxLength={300}
          value={why}
          onChange={(e) => setWhy(e.target.value)}
        />
      </label>
      <Button type="submit" className="self-start" disabled={!as || say.isPending}>
        Say so
      </Button>
      {say.error && <Failed error={say.error} />}
    </form>
  );
}

function json(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new Error(`What it gave is not JSON: ${(error as Error).message}`);
  }
}
