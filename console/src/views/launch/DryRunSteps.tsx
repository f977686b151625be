// What a job would do, step by step, without doing anything.
import clsx from 'clsx';
import type { DryRun, DryStep, Preview } from '../../api/client';
import { Tag } from '../../ui/parts';

export function DryRunSteps({ dry }: { dry: DryRun }) {
  return (
    <>
      <p className="pb-2 text-ink-2">
        Version {dry.version} on <code>{dry.target}</code>; nothing is done by looking.
      </p>
      <Steps steps={dry.steps} />
      {dry.further.map((part) => (
        <section key={part.label} className="pt-2">
          <h3 className="font-semibold text-[13px] text-ink-2">{part.label}</h3>
          <Steps steps={part.steps} />
        </section>
      ))}
    </>
  );
}

function Steps({ steps }: { steps: DryStep[] }) {
  return (
    <ol className="flex flex-col">
      {steps.map((step) => (
        <li key={step.place} className="border-line border-t py-2">
          <p className="flex flex-wrap items-baseline gap-x-2">
            <Tag>{step.kind}</Tag>
            <span>{step.summary ?? step.id}</span>
            <code className="break-words text-ink-3">{step.summary ? step.place : step.does}</code>
          </p>
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-3 pt-1 pl-1 text-[13px]">
            {step.when && <Row name="when" preview={step.when} />}
            {step.given.map(({ name, preview }) => (
              <Row key={name} name={name} preview={preview} />
            ))}
            {step.request && (
              <>
                <dt className="text-ink-3">sends</dt>
                <dd>
                  <code className="break-words">
                    {step.request.method} {step.request.target}{' '}
                    {step.request.body != null && JSON.stringify(step.request.body)}
                  </code>
                </dd>
              </>
            )}
          </dl>
          {step.parts?.map((part) => (
            <div key={part.label} className="border-line border-l pt-1.5 pl-3">
              <p
                className={clsx('text-[13px]', part.taken === false ? 'text-ink-3' : 'text-ink-2')}
              >
                {part.taken === false && 'not taken: '}
                {part.taken == null && 'perhaps: '}
                <code className="break-words">{part.label}</code>
              </p>
              {part.taken !== false && <Steps steps={part.steps} />}
            </div>
          ))}
          {(step.left_out ?? 0) > 0 && (
            <p className="border-line border-l pt-1.5 pl-3 text-[13px] text-ink-2">
              and the same for {step.left_out} more
            </p>
          )}
        </li>
      ))}
    </ol>
  );
}

function Row({ name, preview }: { name: string; preview: Preview }) {
  return (
    <>
      <dt className="text-ink-3">{name}</dt>
      <dd>
        {name === 'require' && preview.value === false ? (
          <span className="text-bad">does not hold: it would fail here</span>
        ) : preview.unknown ? (
          <span className="text-ink-2">
            not known yet, by <code className="break-words">{preview.unknown.join(', ')}</code>
          </span>
        ) : preview.wrong ? (
          <span className="text-bad">{preview.wrong}</span>
        ) : (
          <code className="break-words">{JSON.stringify(preview.value ?? null)}</code>
        )}
      </dd>
    </>
  );
}
