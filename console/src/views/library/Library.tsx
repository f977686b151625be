// Ready-made runbooks to start from: what each does, what it needs that is not here, and what was made of it already.
import { useQuery } from '@tanstack/react-query';
import { type LibraryItem, library } from '../../api/client';
import { Search, useFound } from '../../ui/filters';
import { Empty, Header, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { some } from '../../ui/words';

const here = (item: LibraryItem) =>
  item.copies.length > 0 ? (
    item.copies.map((copy) => copy.name).join(', ')
  ) : (
    <span className="text-ink-3">not yet</span>
  );

const missing = (item: LibraryItem) =>
  item.missing.length > 0 ? (
    <span className="text-warn">{item.missing.join(', ')}</span>
  ) : (
    <span className="text-ink-3">nothing</span>
  );

const LOOK: Look<LibraryItem> = {
  to: (item) => `/library/${item.runbook.name}`,
  columns: [
    {
      head: 'Name',
      width: 'minmax(0,1fr)',
      cell: (item) => <b>{item.runbook.name}</b>,
      by: (item) => item.runbook.name,
    },
    {
      head: 'Summary',
      width: 'minmax(0,2.6fr)',
      quiet: true,
      cell: (item) => item.runbook.summary,
    },
    { head: 'Published here as', width: 'minmax(0,1fr)', cell: here },
    { head: 'Missing here', width: 'minmax(0,1fr)', cell: missing },
  ],
  narrow: (item) => [
    <>
      <b key="name" className="min-w-0 flex-1 truncate">
        {item.runbook.name}
      </b>
      {here(item)}
    </>,
    <span key="summary" className="min-w-0 flex-1 truncate">
      {item.runbook.summary}
    </span>,
  ],
};

export function Component() {
  const found = useQuery({ queryKey: ['definitions', 'library'], queryFn: library });
  const all = found.data?.items ?? [];
  const items = useFound(all, (item) => `${item.runbook.name} ${item.runbook.summary ?? ''}`);
  return (
    <>
      <Header title="Library" right={<Search label="Search the library" />}>
        {found.data && <span className="text-ink-2">{some(all.length, 'ready-made runbook')}</span>}
      </Header>
      <Unanswered question={found} />
      {all.length > 0 && items.length === 0 && <Empty>None is like that.</Empty>}
      {items.length > 0 && (
        <Table items={items} id={(item) => item.runbook.name} look={LOOK} label="Library" />
      )}
    </>
  );
}
