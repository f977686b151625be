// Those to whom events of jobs and decisions leave.
import { useQuery } from '@tanstack/react-query';
import { type Subscriber, subscribers } from '../../api/client';
import { Search, useFound } from '../../ui/filters';
import { Empty, Header, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { Standing } from './Standing';

const last = (s: Subscriber) =>
  s.delivered_at ? (
    <>
      <Time at={s.delivered_at} age /> ago
    </>
  ) : (
    <span className="text-ink-3">never yet</span>
  );

const LOOK: Look<Subscriber> = {
  to: (s) => `/subscribers/${s.name}`,
  columns: [
    { head: 'Name', width: 'minmax(0,1fr)', cell: (s) => <b>{s.name}</b>, by: (s) => s.name },
    { head: 'State', width: '92px', cell: (s) => <Standing of={s} /> },
    { head: 'Taken', width: '64px', right: true, cell: (s) => s.delivered, by: (s) => s.delivered },
    { head: 'Waiting', width: '64px', right: true, cell: (s) => s.waiting, by: (s) => s.waiting },
    {
      head: 'Given up',
      width: '64px',
      right: true,
      cell: (s) => s.given_up,
      by: (s) => s.given_up,
    },
    { head: 'Last', width: '92px', quiet: true, cell: last },
    { head: 'Address', width: 'minmax(0,1.6fr)', mono: true, quiet: true, cell: (s) => s.address },
  ],
  narrow: (s) => [
    <>
      <b key="name" className="min-w-0 flex-1 truncate">
        {s.name}
      </b>
      <Standing key="state" of={s} />
    </>,
    <>
      <span key="waiting" className="min-w-0 flex-1">
        {s.waiting} waiting, {s.given_up} given up
      </span>
      <span key="last">{last(s)}</span>
    </>,
  ],
};

export function Component() {
  const found = useQuery({ queryKey: ['subscribers'], queryFn: subscribers });
  const all = found.data?.items ?? [];
  const items = useFound(all, (s) => `${s.name} ${s.summary ?? ''} ${s.address ?? ''}`);
  return (
    <>
      <Header title="Subscribers" right={<Search label="Search subscribers" />}>
        {found.data && <span className="text-ink-2">{all.length} published</span>}
      </Header>
      <Unanswered question={found} />
      {all.length > 0 && items.length === 0 && <Empty>None is like that.</Empty>}
      {found.data && all.length === 0 && (
        <Empty>
          None is published. A <code>subscriber:</code> document sends events of jobs and decisions
          to an address.
        </Empty>
      )}
      {items.length > 0 && (
        <Table items={items} id={(s) => s.name} look={LOOK} label="Subscribers" />
      )}
    </>
  );
}
