// One alert: the normal form beside the payload, every rule's verdict, what followed.
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { alert, alertWhy, example, type Why } from '../api/client';
import { Copy } from '../ui/Copy';
import { Gauge } from '../ui/marks';
import {
  Button,
  Empty,
  Facts,
  Failed,
  Header,
  Json,
  Lost,
  Panel,
  Tag,
  TrialTag,
  Unanswered,
} from '../ui/parts';
import { Exact } from '../ui/Time';
import { Clauses, Settled } from './rule/Clauses';

export function Component() {
  const seq = Number(useParams().seq);
  const found = useQuery({ queryKey: ['alerts', seq], queryFn: () => alert(seq) });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for alert {seq}</Empty>;
  const { alert: a, body, alarm } = found.data;
  return (
    <>
      <Header
        title={`Alert ${a.seq}`}
        right={
          <>
            <Link
              to={`/sources/${a.source}?like=${a.seq}`}
              className="font-semibold text-sea hover:underline"
            >
              Try one like it
            </Link>
            <Link
              to={`/rules/new?alert=${a.seq}`}
              className="rounded-md border border-line bg-panel px-3 py-1 font-semibold text-[13px] hover:bg-sunk"
            >
              Start a rule from it
            </Link>
          </>
        }
      >
        <Gauge severity={a.severity} cleared={a.state === 'cleared'} />
        <span className="text-ink-2">
          {a.severity}, {a.state}
        </span>
        <TrialTag trial={a.trial} />
      </Header>
      <p className="text-[15px]">{a.summary}</p>
      <Rules seq={seq} />
      <div className="grid gap-3.5 lg:grid-cols-2">
        <Panel title="Normal form">
          <Facts
            rows={[
              [
                'id',
                <span key="id">
                  <code>{a.id}</code> <Copy text={a.id} of="the id" />
                </span>,
              ],
              ['source', a.source],
              ['kind', <code key="kind">{a.kind}</code>],
              [
                'resource',
                <span key="resource">
                  <code>{a.resource}</code> <Copy text={a.resource} of="the resource" />
                </span>,
              ],
              ['value', a.value ?? 'none'],
              ['time', <Exact key="time" at={a.time} />],
              ['received', <Exact key="received" at={a.received} />],
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
          <Json value={body} of="the payload" />
        </Panel>
      </div>
    </>
  );
}

/** What every rule makes of it: those that match, then those that are one clause short. */
function Rules({ seq }: { seq: number }) {
  const found = useQuery({ queryKey: ['alerts', seq, 'why'], queryFn: () => alertWhy(seq) });
  if (!found.data) {
    return (
      <Panel title="What the rules decided">
        <Unanswered question={found} />
      </Panel>
    );
  }
  const { matching, near, asked } = found.data;
  return (
    <>
      <Panel title="What the rules decided" aside={`${asked} asked, ${matching.length} match`}>
        {matching.length === 0 && <Empty>No rule concerns it.</Empty>}
        {matching.map((why) => (
          <div key={why.rule} className="border-line border-t py-2 first-of-type:border-t-0">
            <RuleLine why={why} />
            <Settled why={why} />
            <Example seq={seq} rule={why.rule} />
            <details className="mt-1 text-[13px]">
              <summary className="cursor-pointer text-ink-2">
                All {why.clauses.length} clauses hold
              </summary>
              <div className="mt-1">
                <Clauses why={why} />
              </div>
            </details>
          </div>
        ))}
      </Panel>
      {near.length > 0 && (
        <Panel title="One clause short" aside={near.length}>
          {near.map((why) => (
            <div key={why.rule} className="border-line border-t py-2 first-of-type:border-t-0">
              <RuleLine why={why} />
              <Clauses why={why} missedOnly />
            </div>
          ))}
        </Panel>
      )}
    </>
  );
}

/** What came, as an example for the rule's file. */
function Example({ seq, rule }: { seq: number; rule: string }) {
  const made = useMutation({ mutationFn: () => example(seq, rule) });
  if (made.data) return <Json value={made.data.text} of="the example" />;
  return (
    <span className="flex flex-wrap items-center gap-2 py-1">
      <Button
        look="quiet"
        className="px-0!"
        disabled={made.isPending}
        onClick={() => made.mutate()}
      >
        As an example of the rule
      </Button>
      {made.error && <Failed error={made.error} />}
    </span>
  );
}

function RuleLine({ why }: { why: Why }) {
  return (
    <p className="mb-1 flex flex-wrap items-baseline gap-x-2">
      <Link to={`/rules/${why.rule}`} className="font-semibold text-sea hover:underline">
        {why.rule}
      </Link>
      <span className="text-ink-3">version {why.version}</span>
      <Tag tone={why.stance === 'act' ? 'sea' : 'plain'}>{why.stance}</Tag>
      {why.verdict?.job && (
        <Link
          to={
            why.verdict.verdict === 'proposed'
              ? `/proposals/${why.verdict.job}`
              : `/jobs/${why.verdict.job}`
          }
          className="ml-auto font-semibold text-sea hover:underline"
        >
          {why.verdict.verdict === 'proposed' ? 'Proposal' : 'Job'} {why.verdict.job}
        </Link>
      )}
    </p>
  );
}
