// Where alerts come from: whether they arrive, and what could not be taken.
import { Link } from 'react-router';
import type { DefinitionItem } from '../../api/client';
import { count, DefinitionRows } from '../definition/DefinitionRows';

/** A number that says that something is wrong, where it is not none. */
const wrong = (head: string, of: (source: DefinitionItem) => number) => ({
  ...count(head, of),
  width: '84px',
  cell: (source: DefinitionItem) => (
    <span className={of(source) ? 'font-semibold text-warn' : 'text-ink-3'}>{of(source)}</span>
  ),
});

export function Component() {
  return (
    <DefinitionRows
      kind="source"
      title="Sources"
      path="/sources"
      right={
        <Link
          to="/sources/new"
          className="rounded-md border border-line bg-panel px-3 py-1 font-semibold text-[13px] hover:bg-sunk"
        >
          New source
        </Link>
      }
      columns={[
        count('Alerts', (source) => source.used.alerts),
        wrong('Unreadable', (source) => source.used.unreadable),
        count('Caught', (source) => source.used.caught ?? 0),
        wrong('Conflicts', (source) => source.used.conflicts ?? 0),
        wrong('Refused', (source) => source.used.refused ?? 0),
        wrong('Over limit', (source) => source.used.over_limit ?? 0),
      ]}
      second={(source) => `${source.used.alerts} alerts, ${source.used.unreadable} unreadable`}
    />
  );
}
