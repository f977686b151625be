// One alarm: what can be done about it, its values, its alerts and jobs.
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useMemo } from 'react';
import { Link, useParams } from 'react-router';
import { type AlarmDetail, type AlertItem, alarm } from '../../api/client';
import { Copy } from '../../ui/Copy';
import { Gauge, VerdictMark } from '../../ui/marks';
import { Empty, Facts, Header, Lost, Panel, TrialTag } from '../../ui/parts';
import { Exact, Time } from '../../ui/Time';
import { JobRows } from '../JobRows';
import { Acts } from './Acts';
import { Muted } from './Muted';
import { Remedies } from './Remedies';

const Values = lazy(() => import('./Values'));

export function Component() {
  const id = Number(useParams().id);
  const found = useQuery({ queryKey: ['alarms', id], queryFn: () => alarm(id) });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for alarm {id}</Empty>;
  const { alarm: a, alerts, jobs } = found.data;
  const cleared = a.state === 'cleared';
  const same = String(
    new URLSearchParams({ source: a.source, kind: a.kind, resource: a.resource }),
  );
  const last = alerts.find((alert) => alert.state !== 'cleared') ?? alerts[0];
  return (
    <>
      <Header
        title={<span className="font-mono text-[19px]">{a.resource}</span>}
        page={`Alarm ${a.id}, ${a.resource}`}
        right={
          <Link
            to={`/alarms?state=any&resource=${encodeURIComponent(a.resource)}`}
            className="text-sea hover:underline"
          >
            All alarms of it
          </Link>
        }
      >
        <Gauge severity={a.severity} cleared={cleared} />
        <span className="text-ink-2">
          {a.kind}, {cleared ? 'cleared' : a.severity} <Copy text={a.resource} of="the resource" />
        </span>
        <TrialTag trial={a.trial} />
      </Header>
      <p className="text-[15px]">{a.summary}</p>
      <div className="grid gap-3.5 lg:grid-cols-[1fr_340px]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Measured alerts={alerts} kind={a.kind} />
          <Panel
            title="Jobs"
            aside={
              <Link
                to={`/jobs?target=${encodeURIComponent(a.resource)}`}
                className="hover:underline"
              >
                all on {a.resource}
              </Link>
            }
          >
            <JobRows jobs={jobs} within />
          </Panel>
          <Panel
            title="Newest alerts"
            aside={
              <Link to={`/alerts?${same}`} className="hover:underline">
                all of them
              </Link>
            }
          >
            {alerts.map((alert) => (
              <Row key={alert.seq} alert={alert} />
            ))}
          </Panel>
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          {last && <Remedies alert={last.seq} />}
          <Acts found={found.data} />
          <Muted found={found.data} />
          <Panel title="The alarm">
            <Facts rows={facts(a)} />
          </Panel>
        </div>
      </div>
    </>
  );
}

function facts(a: AlarmDetail['alarm']): [string, React.ReactNode][] {
  const cleared = a.state === 'cleared';
  return [
    [
      'number',
      <span key="id">
        {a.id} <Copy text={String(a.id)} of="the number of the alarm" />
      </span>,
    ],
    [
      'source',
      <Link key="s" to={`/sources/${a.source}`} className="hover:underline">
        {a.source}
      </Link>,
    ],
    ['raised', <Exact key="raised" at={a.raised_at} />],
    ['cleared', cleared && a.cleared_at ? <Exact key="cleared" at={a.cleared_at} /> : 'not yet'],
    ['stood', <Time key="stood" at={a.raised_at} until={cleared ? a.cleared_at : null} />],
    ['alerts', a.count],
    ['value', a.value ?? 'none'],
  ];
}

/** Fewest values of which a curve says something. */
const FEW = 2;

function Measured({ alerts, kind }: { alerts: AlertItem[]; kind: string }) {
  const points = useMemo(
    () =>
      alerts
        .flatMap((alert) => (alert.value == null ? [] : [{ at: alert.time, value: alert.value }]))
        .sort((a, b) => Date.parse(a.at) - Date.parse(b.at)),
    [alerts],
  );
  if (points.length < FEW) return null;
  const [first, last] = [points[0], points.at(-1)];
  return (
    <Panel title="Values" aside={`${first?.value} to ${last?.value}, by the sender's clock`}>
      <Suspense fallback={<Empty>Drawing</Empty>}>
        <Values
          points={points}
          label={`${points.length} values of ${kind}, the last ${last?.value}`}
        />
      </Suspense>
    </Panel>
  );
}

function Row({ alert }: { alert: AlertItem }) {
  return (
    <Link
      to={`/alerts/${alert.seq}`}
      className="grid grid-cols-[16px_92px_1fr_auto] items-center gap-3 border-line border-t py-1.5 first-of-type:border-t-0 hover:bg-sunk"
    >
      <Gauge severity={alert.severity} cleared={alert.state === 'cleared'} />
      <span className="text-ink-2">
        <Time at={alert.received} />
      </span>
      <span className="truncate">{alert.summary}</span>
      <span className="text-[13px]">
        {alert.verdicts[0] ? (
          <VerdictMark verdict={alert.verdicts[0].verdict} />
        ) : (
          <span className="text-ink-3">no rule</span>
        )}
      </span>
    </Link>
  );
}
