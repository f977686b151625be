// A list as a table: columns that stand under each other, one row a link. Where there is no room for
// columns, a row is two lines.
import clsx from 'clsx';
import type { ReactNode } from 'react';
import { Link } from 'react-router';

export type Column<T> = {
  head: string;
  /** A track of a CSS grid, the same for every row: never of the content's own width. */
  width: string;
  right?: boolean;
  quiet?: boolean;
  mono?: boolean;
  cell: (item: T) => ReactNode;
};

export type Look<T> = {
  columns: Column<T>[];
  to: (item: T) => string;
  /** The two lines of a narrow row. */
  narrow: (item: T) => [ReactNode, ReactNode];
};

/** Heights of a row among many thousands, in pixels: with columns, and in two lines. */
export const ROW = { wide: 18, narrow: 42 };

const template = <T,>(columns: Column<T>[]) => columns.map((c) => c.width).join(' ');

export function TableHead<T>({ look }: { look: Look<T> }) {
  return (
    <div
      aria-hidden="true"
      style={{ gridTemplateColumns: template(look.columns) }}
      className="hidden gap-x-3 border-line border-b px-3.5 py-1 font-semibold text-[12px] text-ink-3 @3xl:grid"
    >
      {look.columns.map((column) => (
        <span key={column.head} className={clsx('truncate', column.right && 'text-right')}>
          {column.head}
        </span>
      ))}
    </div>
  );
}

export function TableRow<T>({ item, look, tall }: { item: T; look: Look<T>; tall?: boolean }) {
  const [first, second] = look.narrow(item);
  return (
    <Link
      to={look.to(item)}
      className="block border-line border-b text-[12.5px] leading-[17px] hover:bg-sunk"
    >
      <span
        style={{ gridTemplateColumns: template(look.columns) }}
        className={clsx('hidden items-center gap-x-3 px-3.5 @3xl:grid', tall ? 'h-[26px]' : 'h-[17px]')}
      >
        {look.columns.map((column) => (
          <span
            key={column.head}
            className={clsx(
              'min-w-0 truncate',
              column.right && 'text-right',
              column.quiet && 'text-ink-2',
              column.mono && 'mono',
            )}
          >
            {column.cell(item)}
          </span>
        ))}
      </span>
      <span className="grid h-[41px] content-center px-3.5 @3xl:hidden">
        <span className="flex min-w-0 items-center gap-2">{first}</span>
        <span className="flex min-w-0 items-center gap-2 text-ink-2">{second}</span>
      </span>
    </Link>
  );
}

type TableProps<T> = {
  items: T[];
  id: (item: T) => string | number;
  look: Look<T>;
  /** Whether it stands in a panel, which has a border already. */
  within?: boolean;
};

/** All of a list that is short enough to stand there whole. */
export function Table<T>({ items, id, look, within }: TableProps<T>) {
  const border = within ? '-mx-3.5 -mb-3' : 'overflow-hidden rounded-lg border border-line bg-panel';
  return (
    <div className={clsx('@container min-w-0', border)}>
      <TableHead look={look} />
      <ul>
        {items.map((item) => (
          <li key={id(item)} className="last:[&>a]:border-b-0">
            <TableRow item={item} look={look} tall />
          </li>
        ))}
      </ul>
    </div>
  );
}
