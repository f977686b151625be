// What stands.
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { type AlarmItem, alarms } from '../api/client';
import { Filter } from '../ui/filters';
import { Gauge } from '../ui/marks';
import { Empty, Header, JobTag, Time, Unanswered } from '../ui/parts';
import { type Look, Table } from '../ui/Table';

export function Component() {
  const [params] = useSearchParams();
  const state = params.get('state') ?? undefined;
  const found = useQuery({ queryKey: ['alarms', state], queryFn: () => alarms(state) });
  const items = found.data?.items ?? [];
  return (
    <>
      <Header title="Alarms" right={<Filter name="state" label="State" options={['raised', 'cleared']} />} />
      <Unanswered question={found} />
      {found.isSuccess && items.length === 0 && <Empty>No alarm is like that.</Empty>}
      {items.length > 0 && <Table items={items} id={(a) => a.id} look={LOOK} />}
    </>
  );
}

const job = (a: AlarmItem) =>
  a.job_state ? (
    <JobTag state={a.job_state} effect={a.job_effect} />
  ) : (
    <span className="text-ink-3">no job</span>
  );

const stands = (a: AlarmItem) =>
  a.state === 'cleared' ? (
    <>ended {a.cleared_at && <Time at={a.cleared_at} />}</>
  ) : (
    <>
      for <Time at={a.raised_at} age />
    </>
  );

const LOOK: Look<AlarmItem> = {
  to: (a) => `/alarms/${a.id}`,
  columns: [
    {
      head: '',
      width: '14px',
      cell: (a) => <Gauge severity={a.severity} cleared={a.state === 'cleared'} small />,
    },
    { head: 'Resource', width: 'minmax(0,1.3fr)', mono: true, cell: (a) => <b>{a.resource}</b> },
    { head: 'Kind', width: 'minmax(0,0.7fr)', mono: true, cell: (a) => a.kind },
    { head: 'Source', width: 'minmax(0,0.8fr)', quiet: true, cell: (a) => a.source },
    { head: 'Value', width: '58px', right: true, cell: (a) => a.value ?? '' },
    { head: 'Summary', width: 'minmax(0,1.6fr)', quiet: true, cell: (a) => a.summary },
    { head: 'Alerts', width: '50px', right: true, quiet: true, cell: (a) => a.count },
    { head: 'Stands', width: '98px', quiet: true, cell: stands },
    { head: 'Job', width: '88px', cell: job },
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
