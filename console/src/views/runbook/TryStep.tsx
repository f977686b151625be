// One step of a runbook while it is written, by itself: what only looks is done, anything else is shown.
import { useMutation } from '@tanstack/react-query';
import { useId, useState } from 'react';
import { type RunbookOutline, type TriedStep, tryStep } from '../../api/client';
import { JsonField, readJson } from '../../ui/JsonField';
import { Button, Failed, Json, Panel } from '../../ui/parts';
import { useMay } from '../../ui/rights';

type Steps = RunbookOutline['steps'];

const ids = (steps: Steps): string[] =>
  steps.flatMap((step) => [
    step.id,
    ...(step.parts ?? [])
      .filter((part) => part.label !== 'undo')
      .flatMap((part) => ids(part.steps)),
  ]);

const INPUTS = 'Inputs';
const OUTPUTS = 'What other steps gave, by their ids';

export function TryStep({ outline, text }: { outline: RunbookOutline; text: string }) {
  const id = useId();
  const may = useMay('responder');
  const all = ids(outline.steps);
  const [chosen, setChosen] = useState<string>();
  const [inputs, setInputs] = useState('{}');
  const [outputs, setOutputs] = useState('{}');
  const step = chosen && all.includes(chosen) ? chosen : all[0];
  const tried = useMutation({
    mutationFn: () =>
      tryStep({
        text,
        step: step ?? '',
        inputs: readJson(inputs || '{}', INPUTS),
        outputs: readJson(outputs || '{}', OUTPUTS),
      }),
  });
  if (!may || all.length === 0) return null;
  return (
    <Panel title="Try a step" aside="what only looks is done">
      <form
        className="flex flex-col gap-2 text-[13px]"
        onSubmit={(event) => {
          event.preventDefault();
          tried.mutate();
        }}
      >
        <span className="flex flex-wrap items-center gap-2">
          <label htmlFor={`${id}-step`}>Step</label>
          <select
            id={`${id}-step`}
            value={step}
            onChange={(event) => setChosen(event.target.value)}
            className="rounded-md border border-line bg-panel px-2 py-1"
          >
            {all.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
          <Button type="submit" disabled={tried.isPending}>
            {tried.isPending ? 'Trying' : 'Try it'}
          </Button>
        </span>
        <JsonField label={INPUTS} text={inputs} rows={2} onChange={setInputs} />
        <JsonField label={OUTPUTS} text={outputs} rows={2} onChange={setOutputs} />
      </form>
      {tried.error && <Failed error={tried.error} />}
      {tried.data && <Came tried={tried.data} />}
    </Panel>
  );
}

function Came({ tried }: { tried: TriedStep }) {
  const { step, sent, output, holds, failure } = tried;
  return (
    <div role="status" className="mt-2 flex flex-col gap-1.5 border-line border-t pt-2 text-[13px]">
      <p>
        <code>{step.does}</code>{' '}
        <span className="text-ink-2">
          {sent ? 'was done: it only looks' : step.request ? 'was not done' : 'sends nothing'}
        </span>
      </p>
      {step.given.map(({ name, preview }) => (
        <p key={name} className="break-words">
          <span className="text-ink-3">{name}</span>{' '}
          {preview.unknown ? (
            <span className="text-warn">not known, by {preview.unknown.join(', ')}</span>
          ) : preview.wrong ? (
            <span className="text-bad">{preview.wrong}</span>
          ) : (
            <code>{JSON.stringify(preview.value)}</code>
          )}
        </p>
      ))}
      {step.request && (
        <p className="break-words">
          <span className="text-ink-3">{sent ? 'sent' : 'would send'}</span>{' '}
          <code>
            {step.request.method} {step.request.target}
          </code>
        </p>
      )}
      {output != null && <Json value={output} of="what it gave" />}
      {holds != null && <p>Its condition {holds ? 'holds' : 'does not hold'}.</p>}
      {failure && <p className="text-bad">{failure}</p>}
    </div>
  );
}
