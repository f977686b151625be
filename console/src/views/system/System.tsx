// What Arvok runs on: its nodes and what waits for them, what is stored and for how long.
import { useQuery } from '@tanstack/react-query';
import { type NodeItem, nodes } from '../../api/client';
import { Empty, Facts, Header, Panel, Tag, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { rough } from '../../ui/time';
import { some } from '../../ui/words';
import { Runners } from './Runners';
import { Stored } from './Stored';

/** A node that was not heard of for so long, in seconds, is most likely gone. */
const SILENT = 15;

const state = (node: NodeItem) => {
  if (node.lag > SILENT) return <Tag tone="bad">silent</Tag>;
  return node.fault ? <Tag tone="warn">not ready</Tag> : <Tag tone="good">ready</Tag>;
};

const fault = (node: NodeItem) =>
  node.fault ?? (node.answers_fault ? `no answers by mail: ${node.answers_fault}` : null);

const LOOK: Look<NodeItem> = {
  to: () => undefined,
  columns: [
    {
      head: 'Node',
      width: 'minmax(0,0.8fr)',
      mono: true,
      cell: (n) => <b>{n.name}</b>,
      by: (n) => n.name,
    },
    { head: 'State', width: '84px', cell: state },
    {
      head: 'Machine',
      width: 'minmax(0,0.9fr)',
      quiet: true,
      cell: (n) => n.host,
      by: (n) => n.host,
    },
    { head: 'Listens on', width: 'minmax(0,1fr)', mono: true, quiet: true, cell: (n) => n.address },
    { head: 'Version', width: 'minmax(0,0.7fr)', quiet: true, cell: (n) => n.build },
    { head: 'Runs for', width: '92px', quiet: true, cell: (n) => <Time at={n.since} age /> },
    { head: 'Heard', width: '76px', right: true, quiet: true, cell: (n) => rough(n.lag * 1000) },
    { head: 'Jobs', width: '52px', right: true, cell: (n) => n.leases, by: (n) => n.leases },
    {
      head: 'Commit',
      width: '64px',
      right: true,
      quiet: true,
      cell: (n) => rough(n.commit * 1000),
    },
    { head: 'Fault', width: 'minmax(0,1.2fr)', quiet: true, cell: fault },
  ],
  narrow: (n) => [
    <>
      <b key="name" className="mono min-w-0 flex-1 truncate">
        {n.name}
      </b>
      {state(n)}
    </>,
    <span key="rest" className="min-w-0 flex-1 truncate">
      {fault(n) ?? `${n.host}, ${some(n.leases, 'job')}`}
    </span>,
  ],
};

export function Component() {
  const found = useQuery({ queryKey: ['nodes'], queryFn: nodes, refetchInterval: 5000 });
  const backlog = found.data?.backlog;
  return (
    <>
      <Header title="System">
        {found.data && <span className="text-ink-2">{some(found.data.nodes.length, 'node')}</span>}
      </Header>
      <Unanswered question={found} />
      {found.data && (
        <Table items={found.data.nodes} id={(n) => n.name} look={LOOK} label="Nodes" />
      )}
      <Runners />
      {backlog && (
        <Panel title="What waits">
          <Facts
            rows={[
              [
                'jobs',
                `${backlog.queued} wait for their turn${backlog.queued > 0 ? `, the oldest for ${rough(backlog.oldest_queued * 1000)}` : ''}`,
              ],
              [
                'due times',
                backlog.overdue > 0 ? `late by ${rough(backlog.overdue * 1000)}` : 'in time',
              ],
              ['locks', `${some(backlog.lock_waits, 'statement')} waiting for one`],
              ['set aside', `${some(backlog.aside, 'due time')} that could not be handled`],
            ]}
          />
          {backlog.set_aside.map((one) => (
            <p key={`${one.rule} ${one.key}`} className="border-line border-t pt-1.5 text-[13px]">
              <b className="font-semibold">{one.rule}</b> <code>{one.key}</code>, tried {one.tries}{' '}
              times: <span className="text-bad">{one.reason}</span>
            </p>
          ))}
        </Panel>
      )}
      <Stored />
      {found.data?.nodes.length === 0 && <Empty>No node was heard of within a day.</Empty>}
    </>
  );
}
