// What stands.
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { type AlarmFilter, type AlarmItem, alarms, watch } from '../../api/client';
import { Chips, Filter, Narrow, Search, Trials } from '../../ui/filters';
import { LongList } from '../../ui/LongList';
import { Gauge, RANK } from '../../ui/marks';
import { Header, JobTag, TrialTag } from '../../ui/parts';
import { SavedViews } from '../../ui/SavedViews';
import type { Look } from '../../ui/Table';
import { Time } from '../../ui/Time';

const SEVERITIES = ['warning', 'minor', 'major', 'critical'] as const;
const NARROWED = ['source', 'kind', 'resource'] as const;
const CHOSEN = ['text', 'severity', 'state', 'trial'] as const;
const KNOWN = [...NARROWED, ...CHOSEN, 'since', 'until'] as const;

/** What is said where no alarm is listed: of all that stand, or of those that are asked for. */
function none({ state, ...others }: AlarmFilter): string {
  if (Object.keys(others).length === 0)
    return state === 'raised' ? 'No alarm stands.' : 'No alarm is like that.';
  return state === 'raised' ? 'No alarm stands that is like that.' : 'No alarm is like that.';
}

export function Component() {
  const [params] = useSearchParams();
  const seen = useQuery({ queryKey: ['watch', '1h'], queryFn: () => watch('1h') });
  const filter: AlarmFilter = { state: 'raised' };
  for (const key of KNOWN) {
    const value = params.get(key);
    if (key === 'trial') {
      if (value) filter.trial = value === 'true';
    } else if (value)
      filter[key] = key === 'severity' && !value.includes('..') ? `${value}..` : value;
  }
  if (filter.state === 'any') delete filter.state;
  return (
    <>
      <Header
        title="Alarms"
        right={
          <>
            <Search label="Search" />
            <Filter name="severity" label="At least" options={SEVERITIES} />
            <Filter
              name="state"
              label="State"
              options={['raised', 'cleared']}
              usual="raised"
              called={{ raised: 'standing', any: 'all' }}
            />
            <Trials />
            <Narrow by={NARROWED} />
            <SavedViews />
          </>
        }
      >
        {seen.data && (
          <span className="text-ink-2">{seen.data.alarms_open.toLocaleString('en')} stand</span>
        )}
      </Header>
      <Chips known={KNOWN} chosen={CHOSEN} />
      <LongList
        of={{
          key: ['alarms', filter],
          ask: (after) => alarms(filter, after),
          handle: (alarm) => alarm.id,
        }}
        look={LOOK}
        label="Alarms, newest first"
        what="alarm"
        none={none(filter)}
      />
    </>
  );
}

const job = (a: AlarmItem) => (
  <>
    <TrialTag trial={a.trial} />{' '}
    {a.job_state ? (
      <JobTag state={a.job_state} effect={a.job_effect} />
    ) : (
      <span className="text-ink-3">no job</span>
    )}
  </>
);

const stands = (a: AlarmItem) =>
  a.state === 'cleared' ? (
    <>ended {a.cleared_at && <Time at={a.cleared_at} />}</>
  ) : (
    <>
      for <Time at={a.raised_at} age />
    </>
  );

/** How long it has stood, or stood until it was cleared. */
const stood = (a: AlarmItem) =>
  (a.cleared_at ? Date.parse(a.cleared_at) : Date.now()) - Date.parse(a.raised_at);

const LOOK: Look<AlarmItem> = {
  to: (a) => `/alarms/${a.id}`,
  columns: [
    {
      head: '',
      width: '14px',
      cell: (a) => <Gauge severity={a.severity} cleared={a.state === 'cleared'} small />,
      by: (a) => RANK[a.severity],
    },
    {
      head: 'Resource',
      width: 'minmax(0,1.3fr)',
      mono: true,
      link: true,
      cell: (a) => <b>{a.resource}</b>,
      by: (a) => a.resource,
    },
    { head: 'Kind', width: 'minmax(0,0.7fr)', mono: true, cell: (a) => a.kind, by: (a) => a.kind },
    {
      head: 'Source',
      width: 'minmax(0,0.8fr)',
      quiet: true,
      cell: (a) => a.source,
      by: (a) => a.source,
    },
    { head: 'Value', width: '58px', right: true, cell: (a) => a.value ?? '', by: (a) => a.value },
    {
      head: 'Summary',
      width: 'minmax(0,1.6fr)',
      quiet: true,
      cell: (a) => a.summary,
      by: (a) => a.summary,
    },
    {
      head: 'Alerts',
      width: '50px',
      right: true,
      quiet: true,
      cell: (a) => a.count,
      by: (a) => a.count,
    },
    { head: 'Stands', width: '116px', quiet: true, cell: stands, by: stood },
    { head: 'Job', width: '142px', cell: job, by: (a) => a.job_effect ?? a.job_state },
  ],
  narrow: (a) => [
    <>
      <Gauge key="gauge" severity={a.severity} cleared={a.state === 'cleared'} small />
      <b key="resource" className="mono min-w-0 flex-1 truncate">
        {a.resource}
      </b>
      {job(a)}
    </>,
    <>
      <span key="kind" className="mono min-w-0 flex-1 truncate">
        {a.kind}
      </span>
      <span key="stands">{stands(a)}</span>
    </>,
  ],
};
