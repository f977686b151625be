// What is going on, and what needs me.
import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { ToggleGroup } from 'radix-ui';
import { Link, useSearchParams } from 'react-router';
import {
  type AlarmItem,
  type BrokenRule,
  type DecisionItem,
  type JobItem,
  type NeedsYou as Needing,
  type Watch as Seen,
  watch,
} from '../api/client';
import { Gauge } from '../ui/marks';
import { Empty, Header, JobTag, Panel, Tag, Time, Unanswered } from '../ui/parts';
import { clock } from '../ui/time';
import { some } from '../ui/words';
import { SetSeen } from './job/Seen';
import { mood, waiting } from './mood';
import { ProposalRow } from './Proposals';
import { Strait } from './Strait';

export function Component() {
  const [params, setParams] = useSearchParams();
  const window = params.get('window') === '1d' ? '1d' : '1h';
  const seen = useQuery({
    queryKey: ['watch', window],
    queryFn: () => watch(window),
    refetchInterval: 15_000,
  });
  const choose = (value: string) => value && setParams(value === '1h' ? {} : { window: value });
  return (
    <>
      <Header
        title="Watch"
        right={
          <ToggleGroup.Root
            type="single"
            value={window}
            onValueChange={choose}
            aria-label="Window"
            className="flex overflow-hidden rounded-md border border-line"
          >
            {[
              ['1h', 'Last hour'],
              ['1d', 'Last day'],
            ].map(([value, name]) => (
              <ToggleGroup.Item
                key={value}
                value={value ?? ''}
                className="bg-panel px-3 py-1 font-semibold text-[13px] data-[state=on]:bg-sea-soft data-[state=on]:text-sea"
              >
                {name}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
        }
      >
        {seen.data && <span className="text-ink-2">{mood(seen.data)}</span>}
      </Header>
      <Unanswered question={seen} />
      {seen.data && <Overview seen={seen.data} />}
    </>
  );
}

function Overview({ seen }: { seen: Seen }) {
  const { narrowing } = seen;
  const all = waiting(seen);
  const before = all - seen.needs_you.length;
  return (
    <>
      <Panel title="The strait" aside={`${clock(narrowing.from)} to ${clock(narrowing.to)}`} className="pb-1">
        {narrowing.received > 0 ? (
          <Strait numbers={narrowing} />
        ) : (
          <Empty>
            {seen.sources > 0
              ? 'No alert came in this time.'
              : 'No source is published. Write one, and send it with `arvok publish`.'}
          </Empty>
        )}
        {seen.unreadable > 0 && (
          <p className="pb-2 text-[13px] text-warn">
            {some(seen.unreadable, 'payload')} could not be read; <code>arvok source list</code> says of which
            source.
          </p>
        )}
      </Panel>
      <div className="grid flex-1 gap-3.5 lg:grid-cols-[284px_1fr_286px]">
        <Panel title="Needs you" aside={all}>
          {all === 0 && <Empty>Nothing.</Empty>}
          {seen.decisions.map((decision) => (
            <DecisionRow key={decision.id} decision={decision} />
          ))}
          {seen.broken?.map((rule) => (
            <BrokenRow key={rule.rule} broken={rule} />
          ))}
          {seen.proposals.map((proposal) => (
            <ProposalRow key={proposal.id} proposal={proposal} />
          ))}
          {seen.needs_you.map((job, i) => (
            <NeedsYou key={job.id} job={job} first={i + before === 0} />
          ))}
        </Panel>
        <Panel title="Open alarms" aside={`${seen.alarms_open} stand`}>
          {seen.alarms.length === 0 && <Empty>No alarm stands.</Empty>}
          {seen.alarms.map((alarm) => (
            <AlarmRow key={alarm.id} alarm={alarm} />
          ))}
        </Panel>
        <Panel title="Under way" aside={seen.under_way.length}>
          {seen.under_way.length === 0 && <Empty>No job is at work.</Empty>}
          {seen.under_way.map((job) => (
            <UnderWay key={job.id} job={job} />
          ))}
        </Panel>
      </div>
    </>
  );
}

function DecisionRow({ decision }: { decision: DecisionItem }) {
  return (
    <Link
      to={`/jobs/${decision.job}`}
      className="block border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk"
    >
      <span className="flex items-start justify-between gap-2">
        <b className="font-semibold">{decision.runbook}</b>
        <Tag tone="warn">decide</Tag>
      </span>
      <span className="mono block break-all text-ink-2">{decision.target}</span>
      <span className="block text-[13px]">{decision.text}</span>
      <span className="text-[13px] text-ink-3">until {clock(decision.until)}</span>
    </Link>
  );
}

/** A rule that could not decide: nobody acts for these alerts until it is mended. */
function BrokenRow({ broken }: { broken: BrokenRule }) {
  return (
    <Link
      to={broken.alert ? `/alerts/${broken.alert}` : `/rules/${broken.rule}`}
      className="block border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk"
    >
      <span className="flex items-start justify-between gap-2">
        <b className="font-semibold">{broken.rule}</b>
        <Tag tone="bad">broken</Tag>
      </span>
      <span className="block text-[13px]">
        could not decide about {some(broken.alerts, 'alert')}, last <Time at={broken.last_at} />
      </span>
      {broken.reason && <span className="block text-[13px] text-ink-3">{broken.reason}</span>}
    </Link>
  );
}

function NeedsYou({ job, first }: { job: Needing; first: boolean }) {
  return (
    <div className={clsx('border-line py-2 hover:bg-sunk', !first && 'border-t')}>
      <Link to={`/jobs/${job.id}`} className="block">
        <span className="flex items-start justify-between gap-2">
          <b className="font-semibold">{job.runbook}</b>
          <JobTag state={job.state} effect={job.effect} />
        </span>
        <span className="mono block break-all text-ink-2">{job.target}</span>
        <span className="block text-[13px] text-ink-3">{job.failure ?? job.doing}</span>
        {!!job.earlier && <span className="text-[13px] text-ink-3">and {job.earlier} before it</span>}
      </Link>
      {job.state !== 'unsure' && <SetSeen job={job.id} />}
    </div>
  );
}

function AlarmRow({ alarm }: { alarm: AlarmItem }) {
  const cleared = alarm.state === 'cleared';
  return (
    <Link
      to={`/alarms/${alarm.id}`}
      className="grid grid-cols-[16px_1fr_auto_72px] items-center gap-2.5 border-line border-t py-1.5 first-of-type:border-t-0 hover:bg-sunk"
    >
      <Gauge severity={alarm.severity} cleared={cleared} />
      <span className="min-w-0">
        <span className={cleared ? 'mono block break-all text-ink-2' : 'mono block break-all font-semibold'}>
          {alarm.resource}
        </span>
        <span className="block truncate text-[13px] text-ink-3">
          <span className="text-ink-2">{alarm.kind}</span> {alarm.summary}
        </span>
      </span>
      {alarm.job_state ? <JobTag state={alarm.job_state} effect={alarm.job_effect} /> : <span />}
      <span className="text-right text-ink-3">{cleared ? 'ended' : <Time at={alarm.raised_at} age />}</span>
    </Link>
  );
}

export function StepBar({ job }: { job: JobItem }) {
  const steps = Array.from({ length: job.steps ?? 0 }, (_, i) => i);
  return (
    <span
      className="my-1 flex gap-0.5"
      role="img"
      aria-label={`${job.steps_done} of ${job.steps} steps done`}
    >
      {steps.map((i) => (
        <i
          key={i}
          className={`h-[7px] flex-1 rounded-xs border ${
            i < job.steps_done
              ? 'border-transparent bg-sea'
              : i === job.steps_done && job.state === 'running'
                ? 'border-sea bg-sea-soft'
                : 'border-line bg-sunk'
          }`}
        />
      ))}
    </span>
  );
}

function UnderWay({ job }: { job: JobItem }) {
  return (
    <Link
      to={`/jobs/${job.id}`}
      className="block border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk"
    >
      <span className="flex justify-between gap-2">
        <b className="font-semibold">{job.runbook}</b>
        <span className="text-ink-3">
          <Time at={job.started_at ?? job.created_at} age />
        </span>
      </span>
      <span className="mono block break-all text-ink-2">{job.target}</span>
      <StepBar job={job} />
      <span className="text-[13px] text-ink-3">{job.doing}</span>
    </Link>
  );
}
