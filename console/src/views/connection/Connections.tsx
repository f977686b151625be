// The outside systems that are acted on: can we reach them, and how did that go.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type Connection, connections } from '../../api/client';
import { Search, useFound } from '../../ui/filters';
import { Empty, Header, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { millis, Standing } from './Standing';

const last = (c: Connection) =>
  c.last_at ? (
    <>
      <Time at={c.last_at} age /> ago
    </>
  ) : (
    <span className="text-ink-3">never yet</span>
  );

const LOOK: Look<Connection> = {
  to: (c) => `/connections/${c.name}`,
  columns: [
    { head: 'Name', width: 'minmax(0,1fr)', cell: (c) => <b>{c.name}</b>, by: (c) => c.name },
    { head: 'State', width: '84px', cell: (c) => <Standing of={c} /> },
    { head: 'Calls in 1 h', width: '80px', right: true, cell: (c) => c.calls, by: (c) => c.calls },
    {
      head: 'Not well',
      width: '64px',
      right: true,
      cell: (c) => <span className={c.failed ? 'text-bad' : ''}>{c.failed}</span>,
      by: (c) => c.failed,
    },
    {
      head: 'Takes',
      width: '68px',
      right: true,
      quiet: true,
      cell: (c) => (c.median_ms == null ? '' : millis(c.median_ms)),
    },
    { head: 'Last call', width: '92px', quiet: true, cell: last, by: (c) => c.last_at ?? '' },
    {
      head: 'Address',
      width: 'minmax(0,1.4fr)',
      mono: true,
      quiet: true,
      cell: (c) => c.address ?? c.trouble,
    },
  ],
  narrow: (c) => [
    <>
      <b key="name" className="min-w-0 flex-1 truncate">
        {c.name}
      </b>
      <Standing key="state" of={c} />
    </>,
    <>
      <span key="calls" className="min-w-0 flex-1">
        {c.calls} calls in 1 h, {c.failed} not well
      </span>
      <span key="last">{last(c)}</span>
    </>,
  ],
};

export function Component() {
  const found = useQuery({ queryKey: ['connections'], queryFn: connections });
  const all = found.data?.items ?? [];
  const items = useFound(
    all,
    (c) => `${c.name} ${c.summary ?? ''} ${c.connector} ${c.address ?? ''}`,
  );
  return (
    <>
      <Header
        title="Connections"
        right={
          <>
            <Search label="Search connections" />
            <Link to="/connections/import" className="font-semibold text-sea hover:underline">
              Import a description
            </Link>
          </>
        }
      >
        {found.data && <span className="text-ink-2">{all.length} published</span>}
      </Header>
      <Unanswered question={found} />
      {all.length > 0 && items.length === 0 && <Empty>None is like that.</Empty>}
      {found.data && all.length === 0 && (
        <Empty>
          None is published. A <code>connection:</code> document says where an outside system is;
          its <code>connector:</code> what can be done there. Both can be made of a description of
          its API.
        </Empty>
      )}
      {items.length > 0 && (
        <Table items={items} id={(c) => c.name} look={LOOK} label="Connections" />
      )}
    </>
  );
}
