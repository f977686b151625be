// One proposal: what would be done, why, and the two answers to it.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { proposal } from '../../api/client';
import { Empty, Facts, Header, Json, Lost, Panel, Tag, TrialTag } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Exact } from '../../ui/Time';
import { Answer } from './Answer';
import { STATES } from './Proposals';

export function Component() {
  const id = Number(useParams().id);
  const found = useQuery({ queryKey: ['proposals', id], queryFn: () => proposal(id) });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for proposal {id}</Empty>;
  const p = found.data;
  const link = 'font-semibold text-sea hover:underline';
  return (
    <>
      <Header title={`Proposal ${p.id}`}>
        <Tag tone={STATES[p.state]}>{p.state}</Tag>
        <TrialTag trial={p.trial} />
        <span className="text-ink-2">
          {p.runbook} on <span className="mono">{p.target}</span>
        </span>
      </Header>
      {p.state === 'open' && <Answer key={p.id} proposal={p} />}
      <div className="grid gap-3.5 lg:grid-cols-2">
        <Panel title="Why">
          <Facts
            rows={[
              ['reason', p.reason],
              [
                'rule',
                <span key="rule">
                  <Link to={`/rules/${p.rule}`} className={link}>
                    {p.rule}
                  </Link>{' '}
                  version {p.rule_version}
                </span>,
              ],
              [
                'alert',
                p.alert ? (
                  <Link key="a" to={`/alerts/${p.alert}`} className={link}>
                    Alert {p.alert}
                  </Link>
                ) : (
                  'none'
                ),
              ],
              [
                'alarm',
                p.alarm ? (
                  <Link key="m" to={`/alarms/${p.alarm}`} className={link}>
                    Alarm {p.alarm}
                  </Link>
                ) : (
                  'none'
                ),
              ],
              ['made', <Exact key="made" at={p.created_at} />],
              ...(p.decided_at
                ? ([
                    [
                      p.state,
                      <span key="decided">
                        <Exact at={p.decided_at} />
                        {p.decided_by && ` by ${shown(p.decided_by)}`}
                      </span>,
                    ],
                  ] as [string, React.ReactNode][])
                : []),
              ...(p.note ? ([['note', p.note]] as [string, string][]) : []),
              ...(p.state === 'launched'
                ? ([
                    [
                      'job',
                      <Link key="j" to={`/jobs/${p.id}`} className={link}>
                        Job {p.id}
                      </Link>,
                    ],
                  ] as [string, React.ReactNode][])
                : []),
            ]}
          />
        </Panel>
        {p.state !== 'open' && (
          <Panel title="What was proposed" aside={`${p.runbook} version ${p.runbook_version}`}>
            <Json value={p.inputs} of="the inputs" />
          </Panel>
        )}
      </div>
    </>
  );
}
