// One alarm with its alerts and jobs.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { alarm } from '../api/client';
import { Gauge, VerdictMark } from '../ui/marks';
import { Empty, Facts, Header, Lost, Panel, Time } from '../ui/parts';
import { exact } from '../ui/time';
import { JobRows } from './JobRows';

export function Component() {
  const id = Number(useParams().id);
  const found = useQuery({ queryKey: ['alarms', id], queryFn: () => alarm(id) });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for alarm {id}</Empty>;
  const { alarm: a, alerts, jobs } = found.data;
  const cleared = a.state === 'cleared';
  return (
    <>
      <Header title={<span className="font-mono text-[19px]">{a.resource}</span>}>
        <Gauge severity={a.severity} cleared={cleared} />
        <span className="text-ink-2">
          {a.kind}, {cleared ? 'cleared' : a.severity}
        </span>
      </Header>
      <p className="text-[15px]">{a.summary}</p>
      <div className="grid gap-3.5 lg:grid-cols-[1fr_340px]">
        <div className="flex flex-col gap-3.5">
          <Panel title="Jobs" aside={jobs.length}>
            <JobRows jobs={jobs} within />
          </Panel>
          <Panel title="Newest alerts" aside={alerts.length}>
            {alerts.map((x) => (
              <Link
                key={x.seq}
                to={`/alerts/${x.seq}`}
                className="grid grid-cols-[16px_76px_1fr_auto] items-center gap-3 border-line border-t py-1.5 first-of-type:border-t-0 hover:bg-sunk"
              >
                <Gauge severity={x.severity} cleared={x.state === 'cleared'} />
                <span className="text-ink-2">
                  <Time at={x.received} />
                </span>
                <span className="truncate">{x.summary}</span>
                <span className="text-[13px]">
                  {x.verdicts[0] ? (
                    <VerdictMark verdict={x.verdicts[0].verdict} />
                  ) : (
                    <span className="text-ink-3">no rule</span>
                  )}
                </span>
              </Link>
            ))}
          </Panel>
        </div>
        <Panel title="The alarm" className="self-start">
          <Facts
            rows={[
              ['source', a.source],
              ['raised', exact(a.raised_at)],
              ['cleared', cleared && a.cleared_at ? exact(a.cleared_at) : 'not yet'],
              ['stood', <Time key="stood" at={a.raised_at} until={cleared ? a.cleared_at : null} />],
              ['alerts', a.count],
              ['value', a.value ?? 'none'],
            ]}
          />
        </Panel>
      </div>
    </>
  );
}
