// A list as a table: columns that stand under each other, a link in each row that takes the whole of it. Where there is no
// room for columns, a row is two lines. The arrow keys go from row to row.
// biome-ignore-all lint/a11y/useSemanticElements: a grid of CSS, or rows that are not all there, cannot be a table of HTML
// biome-ignore-all lint/a11y/useFocusableInteractive: of a row its link has the focus
import clsx from 'clsx';
import type { KeyboardEvent, ReactNode } from 'react';
import { Link } from 'react-router';
import { inOrder, type Sorted, useSort } from './sort';

export type Column<T> = {
  head: string;
  /** A track of a CSS grid, the same for every row: never of the content's own width. */
  width: string;
  right?: boolean;
  quiet?: boolean;
  mono?: boolean;
  /** Whether the row's link stands here; else it stands in the first column with a head. */
  link?: boolean;
  cell: (item: T) => ReactNode;
  /** What rows are sorted by when its head is pressed. */
  by?: (item: T) => string | number | null | undefined;
};

export type Look<T> = {
  columns: Column<T>[];
  /** Where a row leads; none for one that leads nowhere. */
  to: (item: T) => string | undefined;
  /** The two lines of a narrow row. */
  narrow: (item: T) => [ReactNode, ReactNode];
};

/** Heights of a row among many thousands, in pixels: with columns, and in two lines. */
export const ROW = { wide: 18, narrow: 42 };

/** What the column without a head shows. */
const MARK = 'Severity';

const template = <T,>(columns: Column<T>[]) => columns.map((c) => c.width).join(' ');

type HeadProps<T> = { look: Look<T>; sorted?: Sorted; onSort?: (by: string) => void };

export function TableHead<T>({ look, sorted, onSort }: HeadProps<T>) {
  return (
    <div
      role="row"
      style={{ gridTemplateColumns: template(look.columns) }}
      className="hidden gap-x-3 border-line border-b px-3.5 py-1 font-semibold text-[12px] text-ink-3 @3xl:grid"
    >
      {look.columns.map((column) => {
        const name = column.head || MARK;
        const own = sorted?.by === name ? sorted : undefined;
        return (
          <span
            key={column.head}
            role="columnheader"
            aria-sort={own ? (own.down ? 'descending' : 'ascending') : undefined}
            className={clsx('truncate', column.right && 'text-right')}
          >
            {column.by && onSort ? (
              <button
                type="button"
                className="max-w-full truncate font-semibold hover:text-ink"
                aria-label={`Sort by ${name}`}
                title={`Sort by ${name.toLowerCase()}`}
                onClick={() => onSort(name)}
              >
                {column.head}
                {own ? (
                  <span aria-hidden="true">{own.down ? ' ↓' : ' ↑'}</span>
                ) : (
                  column.head === '' && <span aria-hidden="true">↕</span>
                )}
              </button>
            ) : (
              column.head || <span className="sr-only">{MARK}</span>
            )}
          </span>
        );
      })}
    </div>
  );
}

/** What a row's link covers: all of the row. */
const WHOLE = 'outline-none after:absolute after:inset-0';

type RowProps<T> = {
  item: T;
  look: Look<T>;
  tall?: boolean;
  faded?: boolean;
  index?: number;
  /** Which form it has, where that is known; else its style chooses. */
  wide?: boolean;
};

export function TableRow<T>({ item, look, tall, faded, index, wide }: RowProps<T>) {
  const to = look.to(item);
  const marked = look.columns.findIndex((column) => column.link);
  const linked = marked >= 0 ? marked : look.columns.findIndex((column) => column.head !== '');
  const link = (content: ReactNode) =>
    to ? (
      <Link to={to} data-row className={WHOLE}>
        {content}
      </Link>
    ) : (
      content
    );
  return (
    <div
      role="row"
      aria-rowindex={index}
      className={clsx(
        'relative border-line border-b text-[12.5px] leading-[17px] hover:bg-sunk',
        'has-[[data-row]:focus-visible]:bg-sea-soft has-[[data-row]:focus-visible]:shadow-[inset_3px_0_0_var(--sea)]',
        faded && 'opacity-60',
      )}
    >
      {wide !== false && (
        <span
          style={{ gridTemplateColumns: template(look.columns) }}
          className={clsx(
            'hidden items-center gap-x-3 px-3.5 @3xl:grid',
            tall ? 'h-[26px]' : 'h-[17px]',
          )}
        >
          {look.columns.map((column, i) => (
            <span
              key={column.head}
              role="cell"
              className={clsx(
                'min-w-0 truncate',
                column.right && 'text-right',
                column.quiet && 'text-ink-2',
                column.mono && 'mono',
              )}
            >
              {i === linked ? link(column.cell(item)) : column.cell(item)}
            </span>
          ))}
        </span>
      )}
      {wide !== true && <Narrow lines={look.narrow(item)} link={link} />}
    </div>
  );
}

type NarrowProps = { lines: [ReactNode, ReactNode]; link: (content: ReactNode) => ReactNode };

function Narrow({ lines: [first, second], link }: NarrowProps) {
  return (
    <span
      role="cell"
      className="grid h-[41px] grid-cols-[minmax(0,1fr)] content-center px-3.5 @3xl:hidden"
    >
      {link(<span className="flex min-w-0 items-center gap-2">{first}</span>)}
      <span className="flex min-w-0 items-center gap-2 text-ink-2">{second}</span>
    </span>
  );
}

const STEPS: Record<string, (at: number, last: number) => number> = {
  ArrowDown: (at) => at + 1,
  ArrowUp: (at) => at - 1,
  Home: () => 0,
  End: (_, last) => last,
};

/** The arrow keys go from the row that has the focus to its neighbours. */
export function throughRows(event: KeyboardEvent<HTMLElement>) {
  const step = STEPS[event.key];
  if (!step || !(event.target as Element).matches('[data-row]')) return;
  const rows = [...event.currentTarget.querySelectorAll<HTMLElement>('[data-row]')].filter(
    (row) => row.offsetParent !== null,
  );
  const at = rows.indexOf(event.target as HTMLElement);
  const next = rows[step(at, rows.length - 1)];
  event.preventDefault();
  next?.focus();
  next?.closest('[role=row]')?.scrollIntoView({ block: 'nearest' });
}

type TableProps<T> = {
  items: T[];
  id: (item: T) => string | number;
  look: Look<T>;
  /** What the list is of. */
  label: string;
  /** Whether it stands in a panel, which has a border already. */
  within?: boolean;
};

/** All of a list that is short enough to stand there whole; sorted by the head that is pressed. */
export function Table<T>({ items, id, look, label, within }: TableProps<T>) {
  const { sorted, onSort } = useSort();
  const border = within
    ? '-mx-3.5 -mb-3'
    : 'overflow-hidden rounded-lg border border-line bg-panel';
  return (
    <div
      role="table"
      aria-label={label}
      className={clsx('@container min-w-0', border)}
      onKeyDown={throughRows}
    >
      <TableHead
        look={look}
        sorted={within ? undefined : sorted}
        onSort={within ? undefined : onSort}
      />
      <div role="rowgroup" className="[&>div:last-child]:border-b-0">
        {(within ? items : sortedBy(items, look, sorted)).map((item) => (
          <TableRow key={id(item)} item={item} look={look} tall />
        ))}
      </div>
    </div>
  );
}

/** What a head is called that rows can be sorted by, if it is one. */
const columnOf = <T,>(look: Look<T>, sorted: Sorted) =>
  sorted && look.columns.find((column) => (column.head || MARK) === sorted.by && column.by);

export const canSort = <T,>(look: Look<T>, sorted: Sorted) => columnOf(look, sorted) !== undefined;

export function sortedBy<T>(items: T[], look: Look<T>, sorted: Sorted): T[] {
  const by = columnOf(look, sorted)?.by;
  return by && sorted ? inOrder(items, by, sorted.down) : items;
}
