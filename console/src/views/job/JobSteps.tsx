// The steps of a job down the page with bars along time, then the effect; one step in full beside it.
import clsx from 'clsx';
import { memo, useCallback, useMemo, useRef } from 'react';
import { Link } from 'react-router';
import type { JobDetail, JobStep } from '../../api/client';
import { AsCurl } from '../../ui/AsCurl';
import { Copy } from '../../ui/Copy';
import { useAddress } from '../../ui/filters';
import { Facts, JobTag, Json, Panel, Tag, Written } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { ResponseDetails } from '../../ui/ResponseDetails';
import { Clock, Time } from '../../ui/Time';
import { between } from '../../ui/time';
import { useNow } from '../../ui/useNow';
import { Answer } from '../decision/Question';
import { firstOfInterest, type Row, rows } from './rows';

export function JobSteps({ detail }: { detail: JobDetail }) {
  const { job } = detail;
  const all = useMemo(() => rows(detail), [detail]);
  const { params, change } = useAddress();
  const chosen = params.get('step') ?? undefined;
  const choose = useRef((step: string) => change({ step }, true));
  choose.current = (step) => change({ step }, true);
  const setChosen = useCallback((step: string) => choose.current(step), []);
  const steps = all.flatMap((row) => (row.kind === 'step' ? [row.step] : []));
  const told =
    firstOfInterest(all)?.key ??
    steps.findLast((s) => s.state === 'done')?.place ??
    steps[0]?.place;
  const shown = chosen ?? told;
  const step = steps.find((s) => s.place === shown);
  const now = useNow();
  // Of a job that is over no row changes with time.
  const since = Date.parse(job.started_at ?? job.created_at);
  const until = job.finished_at ? Date.parse(job.finished_at) : now;
  return (
    <div className="grid gap-3.5 lg:grid-cols-[1fr_340px]">
      <section className="self-start rounded-lg border border-line bg-panel pt-3">
        <h2 className="flex justify-between px-3.5 pb-2 font-semibold text-[13px] text-ink-2">
          Steps
          <span className="font-normal text-ink-3">
            {job.started_at ? <Clock at={job.started_at} /> : 'not started'} to{' '}
            {job.finished_at ? <Clock at={job.finished_at} /> : 'now'}
            {job.started_at && (
              <>
                {', '}
                <Time at={job.started_at} until={job.finished_at ?? null} />
              </>
            )}
          </span>
        </h2>
        <ol>
          {all.map((row, i) =>
            row.kind === 'step' ? (
              <StepRow
                key={row.key}
                since={since}
                until={until}
                step={row.step}
                depth={row.depth}
                first={i === 0}
                chosen={row.key === shown}
                onChoose={setChosen}
              />
            ) : (
              <PartRow key={row.key} row={row} />
            ),
          )}
          <EffectRow detail={detail} />
        </ol>
      </section>
      {/* What is chosen far down is read beside it. */}
      <div className="flex flex-col gap-3.5 lg:sticky lg:top-4 lg:self-start">
        {step && <StepPanel step={step} detail={detail} />}
        {Object.keys(detail.inputs ?? {}).length > 0 && (
          <Panel title="Inputs">
            <Facts
              rows={Object.entries(detail.inputs as Record<string, unknown>).map(([k, v]) => [
                k,
                <Input key={k} value={v} />,
              ])}
            />
          </Panel>
        )}
        {(detail.gathered?.length ?? 0) > 0 && <Gathered detail={detail} />}
        {(detail.acts?.length ?? 0) > 0 && <Acts detail={detail} />}
        <Panel title="Why">
          <p className="text-ink-2">{detail.reason ?? 'Started by hand.'}</p>
        </Panel>
      </div>
    </div>
  );
}

/** What people did to it. */
function Acts({ detail }: { detail: JobDetail }) {
  return (
    <Panel title="What people did" aside={detail.acts?.length}>
      <ul className="max-h-72 overflow-auto text-[13px]">
        {detail.acts?.map((act) => (
          <li key={`${act.at} ${act.act}`} className="border-line border-t py-1 first:border-t-0">
            <Time at={act.at} /> <b className="font-semibold">{shown(act.by)}</b>{' '}
            {act.act.replace('.', ' ')}
            {act.detail && <span className="block break-words text-ink-3">{act.detail}</span>}
          </li>
        ))}
      </ul>
    </Panel>
  );
}

/** The alerts that a gathering's job is for. */
function Gathered({ detail }: { detail: JobDetail }) {
  const { gathered, gathered_more } = detail;
  return (
    <Panel title="For these alerts" aside={(gathered?.length ?? 0) + (gathered_more ?? 0)}>
      <ul className="max-h-72 overflow-auto text-[13px]">
        {gathered?.map((alert) => (
          <li key={alert.seq} className="border-line border-t py-1 first:border-t-0">
            <Link to={`/alerts/${alert.seq}`} className="mono break-all hover:underline">
              {alert.resource}
            </Link>
            <span className="block text-ink-3">{alert.summary}</span>
          </li>
        ))}
        {(gathered_more ?? 0) > 0 && <li className="py-1 text-ink-3">{gathered_more} more</li>}
      </ul>
    </Panel>
  );
}

/** Longest input that is shown on a few lines, in characters. */
const SHORT = 160;

function Input({ value }: { value: unknown }) {
  const text = typeof value === 'string' ? value : JSON.stringify(value);
  return text.length > SHORT ? <Json value={value} /> : <code>{text}</code>;
}

const LOOKS: Record<string, { bar: string; row?: string }> = {
  done: { bar: 'var(--sea)' },
  running: { bar: 'var(--sea)', row: 'bg-sea-soft' },
  again: { bar: 'var(--sev-3)', row: 'bg-warn-soft' },
  waiting: { bar: 'var(--sea)', row: 'bg-sea-soft' },
  failed: { bar: 'var(--sev-5)', row: 'bg-bad-soft' },
  unsure: { bar: 'var(--sev-3)', row: 'bg-warn-soft' },
  stopped: { bar: 'var(--ink-3)' },
};

/** States of steps that nothing was done for. */
const IDLE = ['next', 'not run', 'skipped'];

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
      {['running', 'again', 'waiting', 'unsure'].includes(state) && (
        <>
          <circle cx="11" cy="11" r="7" fill="var(--panel)" stroke={look?.bar} strokeWidth="2" />
          <path d="M11 7v4l3 2" stroke={look?.bar} strokeWidth="1.8" fill="none" />
        </>
      )}
      {state === 'stopped' && (
        <rect x="6" y="6" width="10" height="10" rx="2" fill="var(--ink-3)" />
      )}
      {['next', 'not run', 'skipped'].includes(state) && (
        <circle cx="11" cy="11" r="6" fill="var(--panel)" stroke="var(--line)" strokeWidth="2" />
      )}
    </svg>
  );
}

type StepRowProps = {
  /** From when to when the bars go. */
  since: number;
  until: number;
  step: JobStep;
  depth: number;
  first: boolean;
  chosen: boolean;
  onChoose: (place: string) => void;
};

/** How far a row stands in; on a narrow screen there is less room for it. */
const indent = (depth: number) => ({ paddingLeft: `calc(${depth} * clamp(8px, 1.6vw, 22px))` });

function PartRow({ row }: { row: Exclude<Row, { kind: 'step' }> }) {
  return (
    <li
      className="border-line border-t py-1.5 pr-3.5 text-[13px] text-ink-2"
      style={indent(row.depth)}
    >
      <PartName row={row} />
    </li>
  );
}

function PartName({ row }: { row: Exclude<Row, { kind: 'step' }> }) {
  if (row.kind === 'left out') {
    return <span className="pl-[52px]">{row.items} more, none of them open or failed</span>;
  }
  return (
    <span className="pl-[52px]">
      {!row.taken && (
        <span className="text-ink-3">{row.undecided ? 'not decided yet: ' : 'not taken: '}</span>
      )}
      <code className={row.taken ? '' : 'text-ink-3'}>{row.label}</code>
    </span>
  );
}

const StepRow = memo(function StepRow({
  since,
  until,
  step,
  depth,
  first,
  chosen,
  onChoose,
}: StepRowProps) {
  const look = LOOKS[step.state];
  const share = (t: string) =>
    Math.min(100, Math.max(0, ((Date.parse(t) - since) / Math.max(1, until - since)) * 100));
  const last = step.attempts.at(-1);
  return (
    <li className={clsx('border-line border-t', look?.row)} style={indent(depth)}>
      <button
        type="button"
        aria-pressed={chosen}
        onClick={() => onChoose(step.place)}
        className={clsx(
          'grid w-full grid-cols-[44px_1fr_64px] items-center py-2.5 pr-3.5 text-left hover:bg-sunk/60 md:grid-cols-[44px_74px_1fr_200px_78px]',
          chosen && 'shadow-[inset_3px_0_0_var(--sea)]',
        )}
      >
        <span className="relative flex justify-center">
          <i
            className={clsx(
              'absolute left-1/2 w-0.5 -translate-x-1/2',
              first ? 'top-1/2' : '-top-6',
              depth > 0 && 'hidden',
              '-bottom-6',
            )}
            style={{ background: step.state === 'done' ? 'var(--sea)' : 'var(--line)' }}
          />
          <Mark state={step.state} />
        </span>
        <span className="hidden md:block">
          <Tag>{step.kind}</Tag>
        </span>
        <span className={clsx('min-w-0', IDLE.includes(step.state) && 'text-ink-3')}>
          {step.summary ?? step.id}
          <span className="mono block truncate text-ink-2">
            {step.summary ? step.id : step.does}
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
            const color =
              a.state === 'failed' && step.state !== 'failed' ? 'var(--sev-3)' : look?.bar;
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
          {step.state === 'skipped'
            ? 'skipped'
            : last && between(last.started_at, last.finished_at, until)}
        </span>
      </button>
    </li>
  );
});

function EffectRow({ detail }: { detail: JobDetail }) {
  const { effect } = detail.job;
  const confirm = detail.further.find((part) => part.label === 'confirm');
  const proof = confirm?.steps.findLast((step) => step.attempts.length > 0)?.attempts.at(-1);
  const color =
    effect === 'confirmed'
      ? 'var(--good)'
      : effect === 'unconfirmed'
        ? 'var(--sev-5)'
        : 'var(--ink-3)';
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
      <span className={clsx('min-w-0', !effect && 'text-ink-3')}>
        {detail.confirm ?? 'no proof is asked for'}
        {proof?.saw != null && <Saw saw={proof.saw} />}
      </span>
      {effect && <JobTag state="succeeded" effect={effect} />}
    </li>
  );
}

/** What a condition reads, and what that held. */
function Saw({ saw }: { saw: unknown }) {
  return (
    <Facts
      rows={Object.entries(saw as Record<string, unknown>).map(([what, value]) => [
        what,
        value === null ? (
          <span key={what} className="text-ink-3">
            missing or null
          </span>
        ) : (
          <code key={what}>{JSON.stringify(value)}</code>
        ),
      ])}
    />
  );
}

/** What became of what is to be sent. */
function sent(step: JobStep, { request, answer }: JobStep['attempts'][number]): string {
  if (request?.unsent) return 'Would be sent';
  const waits = step.state === 'waiting' && (step.kind === 'call' || step.kind === 'script');
  return waits && !answer ? 'Will be sent' : 'Sent';
}

/** What a step was given. What a script reads is shown with what was sent, its environment here. */
function StepInputs({ step, give }: { step: JobStep; give: unknown }) {
  const all = (give ?? {}) as Record<string, unknown>;
  const shown = step.kind === 'script' ? all.env : all;
  if (!shown || Object.keys(shown).length === 0) return null;
  const of = step.kind === 'script' ? 'Environment' : 'Inputs of the step';
  return (
    <>
      <h3 className="font-semibold text-[12px] text-ink-3">{of}</h3>
      <Json value={shown} of="the inputs of the step" />
    </>
  );
}

function StepPanel({ step, detail }: { step: JobStep; detail: JobDetail }) {
  const last = step.attempts.at(-1);
  const child = detail.children.find((c) => c.id === step.job);
  const decision = detail.decisions.find((d) => d.id === step.decision && d.state !== 'open');
  return (
    <Panel
      title={
        <span>
          Step {step.place} <Copy text={step.place} of="the name of the step" />
        </span>
      }
      aside={step.state}
    >
      <code className="block break-words pb-2 text-ink-2">{step.does}</code>
      {step.when && (
        <p className="pb-2 text-ink-2">
          only when <code className="break-words">{step.when}</code>
        </p>
      )}
      {child && (
        <p className="flex flex-wrap items-center gap-2 pb-2">
          <Link to={`/jobs/${child.id}`} className="font-semibold text-sea hover:underline">
            Job {child.id}
          </Link>
          <span className="mono break-all text-ink-2">{child.target}</span>
          <JobTag state={child.state} effect={child.effect} />
        </p>
      )}
      {decision && <Answer decision={decision} />}
      {!last && <p className="text-ink-3">Its turn has not come.</p>}
      {last && (
        <div className="flex flex-col gap-2">
          {last.error && <p className="text-bad">{last.error}</p>}
          <StepInputs step={step} give={last.give} />
          {last.request && (
            <>
              <h3 className="font-semibold text-[12px] text-ink-3">{sent(step, last)}</h3>
              <code className="break-words text-ink-2">
                {last.request.method} {last.request.target}
              </code>
              <span>
                <AsCurl request={last.request} />
              </span>
              {last.request.body != null && <Json value={last.request.body} />}
            </>
          )}
          {last.live && <Written of="Writing now" text={last.live.lines} />}
          {last.answer && (
            <ResponseDetails
              answer={last.answer}
              gave={last.output}
              method={last.request?.method}
            />
          )}
          {last.saw != null && (
            <>
              <h3 className="font-semibold text-[12px] text-ink-3">
                {step.state === 'waiting' ? 'Sees now' : 'Saw'}
              </h3>
              <Saw saw={last.saw} />
            </>
          )}
          {last.output != null && (
            <>
              <h3 className="font-semibold text-[12px] text-ink-3">
                {last.request?.unsent ? 'Goes on as if it gave' : 'Output'}
              </h3>
              <Json value={last.output} of="the output" />
            </>
          )}
          <p className="text-[12px] text-ink-3">
            {last.attempt === 0 ? 'taken over from an earlier job' : `try ${last.attempt}`}, began{' '}
            <Time at={last.started_at} />
          </p>
        </div>
      )}
    </Panel>
  );
}
