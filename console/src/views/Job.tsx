// One job as a passage: steps down the page with bars along time, then the effect.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import clsx from 'clsx';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { type JobDetail, type JobStep, job as load, resolve } from '../api/client';
import { Button, Empty, Facts, Failed, Header, JobTag, Json, Lost, Panel, Tag, Time } from '../ui/parts';
import { Needs, useMay } from '../ui/rights';
import { between, clock } from '../ui/time';
import { useNow } from '../ui/useNow';

export function Component() {
  const id = Number(useParams().id);
  const found = useQuery({ queryKey: ['jobs', id], queryFn: () => load(id) });
  if (found.error) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for job {id}</Empty>;
  const detail = found.data;
  const { job } = detail;
  return (
    <>
      <Header title={job.runbook} right={<span className="text-ink-3">Job {job.id}</span>}>
        <span className="mono text-ink-2">{job.target}</span>
        <JobTag state={job.state} />
      </Header>
      <Chain detail={detail} />
      {job.failure && (
        <p role="status" className="rounded-md bg-bad-soft px-3 py-2 text-bad">
          {job.failure}
        </p>
      )}
      {job.state === 'unsure' && <SettleIt id={job.id} />}
      <Passage detail={detail} />
    </>
  );
}

/** Alert, rule, job, effect: each a link to the next. */
function Chain({ detail }: { detail: JobDetail }) {
  const { job, alert } = detail;
  const links: [string, string, string | undefined, 'past' | 'here' | 'open'][] = [
    [
      'Alert',
      alert ? `${alert.kind}, ${alert.severity}` : 'none',
      alert ? `/alerts/${alert.seq}` : undefined,
      'past',
    ],
    ['Rule', job.rule ?? 'none', job.rule ? `/rules/${job.rule}` : undefined, 'past'],
    ['Job', job.runbook, `/runbooks/${job.runbook}`, 'here'],
    [
      'Effect',
      job.effect ?? 'not yet known',
      job.alarm ? `/alarms/${job.alarm}` : undefined,
      job.effect ? 'past' : 'open',
    ],
  ];
  return (
    <ol className="flex flex-wrap items-center gap-y-2 text-[13px]">
      {links.map(([what, name, to, look], i) => (
        <li key={what} className="flex items-center">
          <span
            className={clsx('rounded-[7px] border px-3 py-1', {
              'border-line bg-panel': look === 'past',
              'border-sea bg-panel': look === 'here',
              'border-line border-dashed': look === 'open',
            })}
          >
            <span className="text-ink-3">{what}</span>{' '}
            {to ? (
              <Link to={to} className="font-semibold hover:underline">
                {name}
              </Link>
            ) : (
              <b className="font-semibold">{name}</b>
            )}
          </span>
          {i < links.length - 1 && (
            <svg width="30" height="10" aria-hidden="true">
              <path d="M3 5h22m-5-4 5 4-5 4" fill="none" stroke="var(--ink-3)" />
            </svg>
          )}
        </li>
      ))}
    </ol>
  );
}

function SettleIt({ id }: { id: number }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const say = useMutation({
    mutationFn: (as: 'done' | 'again' | 'failed') => resolve(id, as),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['jobs'] }),
  });
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
      <div className="flex flex-wrap gap-2">
        <Button look="go" onClick={() => say.mutate('done')}>
          It was done
        </Button>
        <Button onClick={() => say.mutate('again')}>Do it again</Button>
        <Button onClick={() => say.mutate('failed')}>End the job</Button>
      </div>
      {say.error && <Failed error={say.error} />}
    </Panel>
  );
}

function Passage({ detail }: { detail: JobDetail }) {
  const { job, steps } = detail;
  const active = steps.findIndex((s) => ['running', 'again', 'failed', 'unsure'].includes(s.state));
  const lastDone = steps.findLastIndex((s) => s.state === 'done');
  const [chosen, setChosen] = useState<number>();
  const shown = chosen ?? (active >= 0 ? active : Math.max(lastDone, 0));
  const step = steps[shown];
  const began = job.started_at ? clock(job.started_at) : 'not started';
  const ended = job.finished_at ? clock(job.finished_at) : 'now';
  return (
    <div className="grid gap-3.5 lg:grid-cols-[1fr_340px]">
      <section className="self-start rounded-lg border border-line bg-panel pt-3">
        <h2 className="flex justify-between px-3.5 pb-2 font-semibold text-[13px] text-ink-2">
          The passage
          <span className="font-normal text-ink-3">
            {began} to {ended}
            {job.started_at && (
              <>
                {', '}
                <Time at={job.started_at} until={job.finished_at ?? null} />
              </>
            )}
          </span>
        </h2>
        <ol>
          {steps.map((s, i) => (
            <StepRow
              key={s.id}
              detail={detail}
              step={s}
              index={i}
              chosen={i === shown}
              onChoose={() => setChosen(i)}
            />
          ))}
          <EffectRow detail={detail} />
        </ol>
      </section>
      <div className="flex flex-col gap-3.5">
        {step && <StepPanel step={step} number={shown + 1} />}
        <Panel title="Inputs">
          <Facts
            rows={Object.entries(detail.inputs as Record<string, unknown>).map(([k, v]) => [
              k,
              <code key={k}>{typeof v === 'string' ? v : JSON.stringify(v)}</code>,
            ])}
          />
        </Panel>
        <Panel title="Why">
          <p className="text-ink-2">{detail.reason ?? 'Started by hand.'}</p>
        </Panel>
      </div>
    </div>
  );
}

const LOOKS: Record<string, { bar: string; row?: string }> = {
  done: { bar: 'var(--sea)' },
  running: { bar: 'var(--sea)', row: 'bg-sea-soft' },
  again: { bar: 'var(--sev-3)', row: 'bg-warn-soft' },
  failed: { bar: 'var(--sev-5)', row: 'bg-bad-soft' },
  unsure: { bar: 'var(--sev-3)', row: 'bg-warn-soft' },
};

function Mark({ state }: { state: string }) {
  const look = LOOKS[state];
  return (
    <svg width="22" height="22" aria-hidden="true" className="relative">
      {state === 'done' && (
        <>
          <circle cx="11" cy="11" r="7" fill="var(--sea)" />
          <path d="M7.5 11l2.4 2.5 4.4-5" stroke="var(--panel)" strokeWidth="1.8" fill="none" />
        </>
      )}
      {state === 'failed' && (
        <>
          <circle cx="11" cy="11" r="7" fill="var(--sev-5)" />
          <path d="M8.5 8.5l5 5m0-5l-5 5" stroke="var(--panel)" strokeWidth="1.8" />
        </>
      )}
      {['running', 'again', 'unsure'].includes(state) && (
        <>
          <circle cx="11" cy="11" r="7" fill="var(--panel)" stroke={look?.bar} strokeWidth="2" />
          <path d="M11 7v4l3 2" stroke={look?.bar} strokeWidth="1.8" fill="none" />
        </>
      )}
      {['next', 'not run'].includes(state) && (
        <circle cx="11" cy="11" r="6" fill="var(--panel)" stroke="var(--line)" strokeWidth="2" />
      )}
    </svg>
  );
}

type StepRowProps = {
  detail: JobDetail;
  step: JobStep;
  index: number;
  chosen: boolean;
  onChoose: () => void;
};

function StepRow({ detail, step, index, chosen, onChoose }: StepRowProps) {
  const now = useNow();
  const look = LOOKS[step.state];
  const start = Date.parse(detail.job.started_at ?? detail.job.created_at);
  const end = detail.job.finished_at ? Date.parse(detail.job.finished_at) : now;
  const share = (t: string) =>
    Math.min(100, Math.max(0, ((Date.parse(t) - start) / Math.max(1, end - start)) * 100));
  const last = step.attempts.at(-1);
  return (
    <li className={clsx('border-line border-t', look?.row)}>
      <button
        type="button"
        aria-pressed={chosen}
        onClick={onChoose}
        className={clsx(
          'grid w-full grid-cols-[44px_1fr_64px] items-center py-2.5 pr-3.5 text-left hover:bg-sunk/60 md:grid-cols-[44px_74px_1fr_200px_78px]',
          chosen && 'shadow-[inset_3px_0_0_var(--sea)]',
        )}
      >
        <span className="relative flex justify-center">
          <i
            className={clsx(
              'absolute left-1/2 w-0.5 -translate-x-1/2',
              index === 0 ? 'top-1/2' : '-top-6',
              '-bottom-6',
            )}
            style={{ background: step.state === 'done' ? 'var(--sea)' : 'var(--line)' }}
          />
          <Mark state={step.state} />
        </span>
        <span className="hidden md:block">
          <Tag>{step.kind}</Tag>
        </span>
        <span className={clsx('min-w-0', ['next', 'not run'].includes(step.state) && 'text-ink-3')}>
          {step.summary ?? step.id}
          <span className="mono block truncate text-ink-2">
            {step.id}
            {step.attempts.length > 1 && `, try ${step.attempts.length}`}
          </span>
        </span>
        <span
          className={clsx(
            'relative hidden h-3 rounded-[3px] md:block',
            step.attempts.length > 0 && 'bg-sunk',
          )}
        >
          {step.attempts.map((a) => {
            const from = share(a.started_at);
            const to = a.finished_at ? share(a.finished_at) : 100;
            const color = a.state === 'failed' && step.state !== 'failed' ? 'var(--sev-3)' : look?.bar;
            return (
              <i
                key={a.attempt}
                className="absolute inset-y-0 rounded-[3px]"
                style={{
                  left: `${Math.min(from, 98.8)}%`,
                  width: `${Math.max(to - from, 1.2)}%`,
                  background: color,
                }}
              />
            );
          })}
        </span>
        <span className="text-right text-ink-2">
          {last && between(last.started_at, last.finished_at, now)}
        </span>
      </button>
    </li>
  );
}

function EffectRow({ detail }: { detail: JobDetail }) {
  const { effect } = detail.job;
  const color =
    effect === 'confirmed' ? 'var(--good)' : effect === 'unconfirmed' ? 'var(--sev-5)' : 'var(--ink-3)';
  return (
    <li className="grid grid-cols-[44px_1fr_auto] items-center border-line border-t py-3 pr-3.5 md:grid-cols-[44px_74px_1fr_auto]">
      <span className="flex justify-center">
        <svg width="22" height="22" aria-hidden="true">
          <path
            d="M11 4l7 7-7 7-7-7z"
            fill={effect === 'confirmed' ? color : 'none'}
            stroke={color}
            strokeDasharray={effect ? undefined : '2 2'}
          />
        </svg>
      </span>
      <span className="hidden md:block">
        <Tag>effect</Tag>
      </span>
      <span className={effect ? '' : 'text-ink-3'}>{detail.confirm ?? 'no proof is asked for'}</span>
      {effect && <JobTag state="succeeded" effect={effect} />}
    </li>
  );
}

function StepPanel({ step, number }: { step: JobStep; number: number }) {
  const last = step.attempts.at(-1);
  return (
    <Panel title={`Step ${number}: ${step.id}`} aside={step.state}>
      <code className="block break-words pb-2 text-ink-2">{step.does}</code>
      {!last && <p className="text-ink-3">Its turn has not come.</p>}
      {last && (
        <div className="flex flex-col gap-2">
          {last.error && <p className="text-bad">{last.error}</p>}
          <h3 className="font-semibold text-[12px] text-ink-3">Given</h3>
          <Json value={last.give} />
          {last.output != null && (
            <>
              <h3 className="font-semibold text-[12px] text-ink-3">Gave</h3>
              <Json value={last.output} />
            </>
          )}
          <p className="text-[12px] text-ink-3">
            try {last.attempt}, began <Time at={last.started_at} />
          </p>
        </div>
      )}
    </Panel>
  );
}
