// One proposal: what would be done, why, and the two answers to it.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { dismiss, launch, proposal } from '../api/client';
import { Button, Empty, Facts, Failed, Header, Json, Lost, Panel, Tag } from '../ui/parts';
import { Needs, useMay } from '../ui/rights';
import { exact } from '../ui/time';
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
        <span className="text-ink-2">
          {p.runbook} on <span className="mono">{p.target}</span>
        </span>
      </Header>
      {p.state === 'open' && <Answer id={id} />}
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
              ['made', exact(p.created_at)],
              ...(p.decided_at
                ? ([[p.state, `${exact(p.decided_at)}${p.decided_by ? ` by ${p.decided_by}` : ''}`]] as [
                    string,
                    string,
                  ][])
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
        <Panel title="What would be done" aside={`${p.runbook} version ${p.runbook_version}`}>
          <Json value={p.inputs} />
        </Panel>
      </div>
    </>
  );
}

function Answer({ id }: { id: number }) {
  const may = useMay('responder');
  const [note, setNote] = useState('');
  const client = useQueryClient();
  const done = { onSuccess: () => client.invalidateQueries({ queryKey: ['proposals'] }) };
  const launched = useMutation({ mutationFn: () => launch(id, note.trim() || undefined), ...done });
  const dismissed = useMutation({ mutationFn: () => dismiss(id, note.trim()), ...done });
  const error = launched.error ?? dismissed.error;
  if (!may) {
    return (
      <Panel>
        <Needs least="responder">Launching or dismissing it</Needs>
      </Panel>
    );
  }
  return (
    <Panel>
      <div className="flex flex-wrap items-end gap-2">
        <label className="min-w-56 flex-1 text-[13px] text-ink-2">
          Reason, needed for dismissing
          <input
            value={note}
            onChange={(event) => setNote(event.target.value)}
            maxLength={2000}
            className="mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
          />
        </label>
        <Button onClick={() => dismissed.mutate()} disabled={!note.trim() || dismissed.isPending}>
          Dismiss
        </Button>
        <Button look="go" onClick={() => launched.mutate()} disabled={launched.isPending}>
          Launch
        </Button>
      </div>
      {error && (
        <div className="mt-2">
          <Failed error={error} />
        </div>
      )}
    </Panel>
  );
}
