// What is going on, and what needs me.
import { useQuery } from '@tanstack/react-query';
import { ToggleGroup } from 'radix-ui';
import { Link, useSearchParams } from 'react-router';
import {
  type AlarmItem,
  type JobItem,
  type MuteItem,
  type Watch as Seen,
  type SelectiveHalt,
  watch,
} from '../api/client';
import { Gauge } from '../ui/marks';
import { Empty, Header, JobTag, Panel, Unanswered } from '../ui/parts';
import { shown } from '../ui/principal';
import { Clock, Time } from '../ui/Time';
import { zoneName } from '../ui/time';
import { some, upTo } from '../ui/words';
import { useZone } from '../ui/zone';
import { Band } from './Band';
import { headline } from './headline';
import { NeedsYou } from './NeedsYou';
import { covered } from './safety/Halts';

/** Up to how many jobs at work the service counts. */
const COUNTED = 10_000;

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
        {seen.data && <span className="text-ink-2">{headline(seen.data)}</span>}
      </Header>
      <Unanswered question={seen} />
      {seen.data && <Overview seen={seen.data} />}
    </>
  );
}

function Overview({ seen }: { seen: Seen }) {
  const { narrowing } = seen;
  const zone = useZone();
  const atWork = seen.jobs_under_way ?? seen.under_way.length;
  return (
    <>
      <Panel
        title="From alerts to effects"
        aside={
          <>
            <Clock at={narrowing.from} /> to <Clock at={narrowing.to} />{' '}
            {zoneName(narrowing.to, zone)}
          </>
        }
        className="pb-1"
      >
        {narrowing.received > 0 ? (
          <Band numbers={narrowing} />
        ) : (
          <Empty>
            {seen.sources > 0 ? 'No alert came in this time.' : 'No source is published.'}
            {seen.sources === 0 && (
              <>
                {' '}
                <Link to="/sources/new" className="text-sea underline">
                  Write one
                </Link>
                .
              </>
            )}
          </Empty>
        )}
        {seen.unreadable > 0 && (
          <p className="pb-2 text-[13px] text-warn">
            {some(seen.unreadable, 'payload')} could not be read;{' '}
            <Link to="/sources?sort=-Unreadable" className="underline">
              of which source
            </Link>
            .
          </p>
        )}
      </Panel>
      <HaltedJobs halts={seen.halts ?? []} />
      <Muted mutes={seen.mutes ?? []} />
      <div className="grid flex-1 gap-3.5 lg:grid-cols-[284px_1fr_286px]">
        <NeedsYou seen={seen} />
        <Panel
          title="Open alarms"
          aside={
            <Link to="/alarms" className="hover:underline">
              {seen.alarms_open > seen.alarms.length
                ? `${seen.alarms.length} of ${seen.alarms_open.toLocaleString('en')}, the worst first`
                : `${seen.alarms_open} stand`}
            </Link>
          }
        >
          {seen.alarms.length === 0 && <Empty>No alarm stands.</Empty>}
          {seen.alarms.map((alarm) => (
            <AlarmRow key={alarm.id} alarm={alarm} />
          ))}
        </Panel>
        <Panel
          title="Under way"
          aside={
            <Link to="/jobs?state=queued,running,waiting" className="hover:underline">
              {atWork > seen.under_way.length
                ? `${seen.under_way.length} of ${upTo(atWork, COUNTED)}, the most urgent first`
                : atWork}
            </Link>
          }
        >
          {seen.under_way.length === 0 && <Empty>No job is at work.</Empty>}
          {seen.under_way.map((job) => (
            <UnderWay key={job.id} job={job} />
          ))}
        </Panel>
      </div>
    </>
  );
}

/** Of which jobs none is begun, until that is lifted. */
function HaltedJobs({ halts }: { halts: SelectiveHalt[] }) {
  if (halts.length === 0) return null;
  return (
    <Panel
      title="Halted"
      aside={
        <Link to="/safety" className="hover:underline">
          {halts.length === 1 ? 'one halt of some jobs' : `${halts.length} halts of some jobs`}
        </Link>
      }
    >
      {halts.map((halt) => (
        <p key={halt.id} className="flex flex-wrap gap-x-3 py-0.5">
          <b className="mono break-words font-semibold">{covered(halt.covers)}</b>
          <span className="min-w-0 flex-1 break-words text-ink-2">{halt.reason}</span>
          <span className="text-[13px] text-ink-2">
            since <Clock at={halt.since} />, by {shown(halt.by)}
          </span>
        </p>
      ))}
    </Panel>
  );
}

/** What is muted, until it ends. */
function Muted({ mutes }: { mutes: MuteItem[] }) {
  if (mutes.length === 0) return null;
  return (
    <Panel
      title="Muted"
      aside={
        <Link to="/safety" className="hover:underline">
          {mutes.length === 1 ? 'one mute' : `${mutes.length} mutes`}
        </Link>
      }
    >
      {mutes.map((mute) => (
        <p key={mute.id} className="flex flex-wrap gap-x-3 py-0.5">
          <b className="mono break-words font-semibold">{mute.text}</b>
          <span className="min-w-0 flex-1 break-words text-ink-2">{mute.reason}</span>
          <span className="text-[13px] text-ink-2">
            {mute.state === 'coming' ? (
              <>
                from <Clock at={mute.from} />
              </>
            ) : (
              <>
                until <Clock at={mute.until} />
              </>
            )}
            , by {shown(mute.by)}
          </span>
        </p>
      ))}
    </Panel>
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
        <span
          className={
            cleared ? 'mono block break-all text-ink-2' : 'mono block break-all font-semibold'
          }
        >
          {alarm.resource}
        </span>
        <span className="block truncate text-[13px] text-ink-3">
          <span className="text-ink-2">{alarm.kind}</span>
          {alarm.acknowledged_by && ` ${shown(alarm.acknowledged_by)} sees to it,`} {alarm.summary}
        </span>
      </span>
      {alarm.job_state ? <JobTag state={alarm.job_state} effect={alarm.job_effect} /> : <span />}
      <span className="text-right text-ink-3">
        {cleared ? 'ended' : <Time at={alarm.raised_at} age />}
      </span>
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
