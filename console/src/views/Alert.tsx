// One alert: the normal form beside the payload, every rule's verdict, what followed.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { alert } from '../api/client';
import { Gauge, VerdictMark } from '../ui/marks';
import { Empty, Facts, Header, Json, Lost, Panel, Tag } from '../ui/parts';
import { exact } from '../ui/time';

export function Component() {
  const seq = Number(useParams().seq);
  const found = useQuery({ queryKey: ['alerts', seq], queryFn: () => alert(seq) });
  if (found.error) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for alert {seq}</Empty>;
  const { alert: a, body, verdicts, alarm } = found.data;
  return (
    <>
      <Header title={`Alert ${a.seq}`}>
        <Gauge severity={a.severity} cleared={a.state === 'cleared'} />
        <span className="text-ink-2">
          {a.severity}, {a.state}
        </span>
      </Header>
      <p className="text-[15px]">{a.summary}</p>
      <Panel title="What the rules decided" aside={verdicts.length}>
        {verdicts.length === 0 && <Empty>No rule concerns it.</Empty>}
        {verdicts.map((v) => (
          <div
            key={v.rule}
            className="grid gap-x-4 border-line border-t py-2 first-of-type:border-t-0 sm:grid-cols-[120px_1fr_auto]"
          >
            <VerdictMark verdict={v.verdict} />
            <span>
              <Link to={`/rules/${v.rule}`} className="font-semibold text-sea hover:underline">
                {v.rule}
              </Link>{' '}
              <span className="text-ink-3">version {v.rule_version}</span>
              <span className="block text-ink-2">{v.reason}</span>
            </span>
            {v.job && (
              <Link to={`/jobs/${v.job}`} className="font-semibold text-sea hover:underline">
                Job {v.job}
              </Link>
            )}
          </div>
        ))}
      </Panel>
      <div className="grid gap-3.5 lg:grid-cols-2">
        <Panel title="Normal form">
          <Facts
            rows={[
              ['id', <code key="id">{a.id}</code>],
              ['source', a.source],
              ['kind', <code key="kind">{a.kind}</code>],
              ['resource', <code key="resource">{a.resource}</code>],
              ['value', a.value ?? 'none'],
              ['time', exact(a.time)],
              ['received', exact(a.received)],
              [
                'labels',
                <span key="labels" className="flex flex-wrap gap-1">
                  {Object.entries(a.labels).map(([k, v]) => (
                    <Tag key={k}>
                      {k}={v}
                    </Tag>
                  ))}
                </span>,
              ],
              [
                'alarm',
                alarm ? (
                  <Link
                    key="alarm"
                    to={`/alarms/${alarm}`}
                    className="font-semibold text-sea hover:underline"
                  >
                    Alarm {alarm}
                  </Link>
                ) : (
                  'none'
                ),
              ],
            ]}
          />
        </Panel>
        <Panel title="Payload" aside="as it came">
          <Json value={body} />
        </Panel>
      </div>
    </>
  );
}
