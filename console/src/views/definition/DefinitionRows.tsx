// Published definitions of one kind as a list.
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { type DefinitionItem, definitions } from '../../api/client';
import { Search, useFound } from '../../ui/filters';
import { Empty, Header, Unanswered } from '../../ui/parts';
import { type Column, type Look, Table } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { some } from '../../ui/words';

type Props = {
  kind: string;
  title: string;
  path: string;
  columns: Column<DefinitionItem>[];
  right?: ReactNode;
  /** What a narrow row says below the name. */
  second?: (item: DefinitionItem) => string;
};

const last = (item: DefinitionItem) =>
  item.used.last_at ? (
    <>
      <Time at={item.used.last_at} age /> ago
    </>
  ) : (
    <span className="text-ink-3">never yet</span>
  );

export function DefinitionRows({ kind, title, path, columns, right, second }: Props) {
  const found = useQuery({ queryKey: ['definitions', kind], queryFn: () => definitions(kind) });
  const all = found.data?.items ?? [];
  const items = useFound(all, (item) => `${item.name} ${item.summary ?? ''} ${item.runbook ?? ''}`);
  const look: Look<DefinitionItem> = {
    to: (item) => `${path}/${item.name}`,
    columns: [
      {
        head: 'Name',
        width: 'minmax(0,1.2fr)',
        cell: (item) => <b>{item.name}</b>,
        by: (item) => item.name,
      },
      { head: 'Version', width: '58px', quiet: true, cell: (item) => item.version },
      ...columns,
      {
        head: 'Last',
        width: '92px',
        quiet: true,
        cell: last,
        by: (item) => item.used.last_at ?? '',
      },
      { head: 'Summary', width: 'minmax(0,2fr)', quiet: true, cell: (item) => item.summary },
    ],
    narrow: (item) => [
      <>
        <b key="name" className="min-w-0 flex-1 truncate">
          {item.name}
        </b>
        {item.stance}
      </>,
      <>
        <span key="used" className="min-w-0 flex-1 truncate">
          {second?.(item) ?? `${some(item.used.jobs, 'job')}, ${item.used.confirmed} helped`}
        </span>
        <span key="last">{last(item)}</span>
      </>,
    ],
  };
  return (
    <>
      <Header
        title={title}
        right={
          <>
            <Search label={`Search ${title.toLowerCase()}`} />
            {right}
          </>
        }
      >
        {found.data && <span className="text-ink-2">{all.length} published</span>}
      </Header>
      <Unanswered question={found} />
      {all.length > 0 && items.length === 0 && <Empty>None is like that.</Empty>}
      {found.data && all.length === 0 && (
        <Empty>
          None is published. Write one, check it with <code>arvok check</code>, send it with{' '}
          <code>arvok publish</code>.
        </Empty>
      )}
      {items.length > 0 && (
        <Table items={items} id={(item) => item.name} look={look} label={title} />
      )}
    </>
  );
}

/** A column of a number. */
export const count = (
  head: string,
  of: (item: DefinitionItem) => number,
): Column<DefinitionItem> => ({
  head,
  width: '64px',
  right: true,
  cell: of,
  by: of,
});
