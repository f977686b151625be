// What other definitions share: steps of runbooks, calendars and groups.
import { useQueries } from '@tanstack/react-query';
import { type DefinitionItem, definitions } from '../../api/client';
import { Search, useFound } from '../../ui/filters';
import { Empty, Header, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { definitionPath } from '../definition/paths';

type Item = DefinitionItem & { kind: string };

const KINDS = ['step', 'calendar', 'group'];

const LOOK: Look<Item> = {
  to: (item) => definitionPath(item.kind, item.name),
  columns: [
    {
      head: 'Name',
      width: 'minmax(0,1fr)',
      cell: (item) => <b>{item.name}</b>,
      by: (item) => item.name,
    },
    { head: 'Kind', width: '84px', cell: (item) => item.kind, by: (item) => item.kind },
    { head: 'Version', width: '64px', quiet: true, cell: (item) => item.version },
    {
      head: 'Published',
      width: '104px',
      quiet: true,
      cell: (item) => <Time at={item.published_at} />,
      by: (item) => item.published_at,
    },
    { head: 'Summary', width: 'minmax(0,2fr)', quiet: true, cell: (item) => item.summary },
  ],
  narrow: (item) => [
    <>
      <b key="name" className="min-w-0 flex-1 truncate">
        {item.name}
      </b>
      <span key="kind">{item.kind}</span>
    </>,
    <span key="summary" className="min-w-0 flex-1 truncate">
      {item.summary}
    </span>,
  ],
};

export function Component() {
  const found = useQueries({
    queries: KINDS.map((kind) => ({
      queryKey: ['definitions', kind],
      queryFn: () => definitions(kind),
    })),
  });
  const all = found.flatMap(({ data }, n) =>
    (data?.items ?? []).map((item) => ({ ...item, kind: KINDS[n] ?? '' })),
  );
  const items = useFound(all, (item) => `${item.name} ${item.kind} ${item.summary ?? ''}`);
  const isAnswered = found.every((question) => question.data);
  return (
    <>
      <Header title="Shared" right={<Search label="Search shared" />}>
        {isAnswered && (
          <span className="text-ink-2">
            {all.length} published: steps, calendars and groups that others use
          </span>
        )}
      </Header>
      {found.map((question, n) => (
        <Unanswered key={KINDS[n]} question={question} />
      ))}
      {all.length > 0 && items.length === 0 && <Empty>None is like that.</Empty>}
      {isAnswered && all.length === 0 && (
        <Empty>
          None is published. A <code>step:</code> document is a step that runbooks use, a{' '}
          <code>calendar:</code> has times that guards and plans follow, and a <code>group:</code>{' '}
          names resources.
        </Empty>
      )}
      {items.length > 0 && (
        <Table
          items={items}
          id={(item) => `${item.kind} ${item.name}`}
          look={LOOK}
          label="Shared definitions"
        />
      )}
    </>
  );
}
