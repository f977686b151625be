// A list of any length in a box that scrolls: only the rows that are seen are there. It holds still while it is read, and
// says how many came meanwhile.
// biome-ignore-all lint/a11y/useSemanticElements: a grid of CSS, or rows that are not all there, cannot be a table of HTML
import { useVirtualizer } from '@tanstack/react-virtual';
import {
  type HTMLAttributes,
  type ReactNode,
  type RefObject,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from 'react';
import { flushSync } from 'react-dom';
import { type ListOf, useHeldList } from '../api/held';
import { useNewest } from '../api/sorted';
import { Button, Empty, Failed, Unanswered } from './parts';
import { type Sorted, useSort } from './sort';
import { canSort, type Look, ROW, sortedBy, TableHead, TableRow, throughRows } from './Table';
import { Time } from './Time';
import { some } from './words';

type Props<T> = {
  of: ListOf<T>;
  look: Look<T>;
  label: string;
  /** What one row is called. */
  what: string;
  /** What is said when there is none. */
  none: ReactNode;
};

/** The same list under other filters, or in another order, is another list. */
export function LongList<T>(props: Props<T>) {
  const { sorted, onSort } = useSort();
  const key = JSON.stringify(props.of.key);
  return sorted && canSort(props.look, sorted) ? (
    <SortedList key={`${key} sorted`} {...props} sorted={sorted} onSort={onSort} />
  ) : (
    <HeldList key={key} {...props} onSort={onSort} />
  );
}

type Order = { sorted?: Sorted; onSort: (by?: string) => void };

function HeldList<T>({ of, look, label, what, none, onSort }: Props<T> & Order) {
  const list = useHeldList(of);
  const box = useRef<HTMLDivElement>(null);
  const first = useRef(list.offset);
  const there = list.count > 0;
  useLayoutEffect(() => {
    if (there && box.current && first.current > 0) box.current.scrollTop = first.current;
    if (there) first.current = 0;
  }, [there]);
  const seen = (from: number, to: number) => {
    list.see(from, to);
    if (list.hasMore && !list.stopped && !list.failed && list.held && to >= list.count - 80)
      void list.more();
  };
  const isRead = () =>
    box.current !== null &&
    (box.current.scrollTop > 0 ||
      box.current.matches(':hover') ||
      box.current.contains(document.activeElement));
  const left = () => setTimeout(() => !isRead() && list.release());
  const newest = () => {
    box.current?.scrollTo(0, 0);
    list.release();
  };
  const isEmpty = list.head.isSuccess && list.count === 0 && !list.stopped;
  return (
    <>
      <Unanswered question={list.head} />
      {isEmpty && <Empty>{none}</Empty>}
      {list.count > 0 && (
        <RowsBox
          box={box}
          count={list.count}
          item={list.item}
          look={look}
          label={label}
          onSort={onSort}
          isWhole={!list.hasMore}
          offset={first.current}
          onSeen={seen}
          onPointerEnter={list.hold}
          onPointerLeave={left}
          onFocus={list.hold}
          onBlur={left}
          onScroll={(event) => {
            list.keepOffset(event.currentTarget.scrollTop);
            if (event.currentTarget.scrollTop > 0) list.hold();
            else left();
          }}
          below={
            <span role="status">
              {some(list.count, what)}
              {list.hasMore && !list.stopped ? ' so far; more come as you scroll' : ''}
              {list.asking ? ', asking for more' : ''}
            </span>
          }
        >
          {list.fresh > 0 && (
            <Button
              look="go"
              className="absolute top-7 left-1/2 z-10 -translate-x-1/2 shadow-md"
              onClick={newest}
            >
              {list.fresh}
              {list.freshMore && '+'} new
            </Button>
          )}
        </RowsBox>
      )}
      {list.failed && (
        <div className="flex flex-wrap items-center gap-3">
          <Failed error={list.failed} />
          <Button disabled={list.asking} onClick={() => void list.more()}>
            Ask again
          </Button>
        </div>
      )}
      {list.stopped && (
        <p className="flex items-center gap-3 text-ink-2">
          <span>
            {list.count > 0 ? 'These are all so far.' : 'None so far.'} Older ones have not been
            looked through.
          </span>
          <Button disabled={list.asking} onClick={() => void list.more()}>
            Look further back
          </Button>
        </p>
      )}
    </>
  );
}

/** The newest rows in the order of a head: as they stood when they were asked for, until they are asked for again. */
function SortedList<T>({ of, look, label, what, none, sorted, onSort }: Props<T> & Order) {
  const list = useNewest(of);
  const box = useRef<HTMLDivElement>(null);
  const rows = useMemo(
    () => (list.data ? sortedBy(list.data.items, look, sorted) : []),
    [list.data, look, sorted],
  );
  const by = sorted?.by.toLowerCase();
  return (
    <>
      <Unanswered question={list} />
      {list.isSuccess && rows.length === 0 && <Empty>{none}</Empty>}
      {rows.length > 0 && (
        <RowsBox
          box={box}
          count={rows.length}
          item={(index) => rows[index] && { item: rows[index], gone: false }}
          look={look}
          label={label.replace('newest first', `by ${by}`)}
          sorted={sorted}
          onSort={onSort}
          isWhole={!list.data?.more}
          below={
            <>
              <span role="status">
                {list.data?.more
                  ? `The newest ${some(rows.length, what)}`
                  : `All ${some(rows.length, what)}`}{' '}
                by {by}, as of <Time at={new Date(list.dataUpdatedAt).toISOString()} />
                {list.data?.more && '; a filter finds older ones'}
              </span>
              <Button
                look="quiet"
                className="py-0"
                disabled={list.isFetching}
                onClick={() => void list.refetch()}
              >
                Ask again
              </Button>
              <Button
                look="quiet"
                className="whitespace-nowrap py-0 print:hidden"
                onClick={() => onSort()}
              >
                Newest first
              </Button>
            </>
          }
        />
      )}
    </>
  );
}

type BoxProps<T> = {
  box: RefObject<HTMLDivElement | null>;
  count: number;
  item: (index: number) => { item: T; gone: boolean } | undefined;
  look: Look<T>;
  label: string;
  isWhole: boolean;
  offset?: number;
  /** Told of the first and the last row that is there. */
  onSeen?: (from: number, to: number) => void;
  below: ReactNode;
  children?: ReactNode;
} & Order &
  Pick<
    HTMLAttributes<HTMLDivElement>,
    'onPointerEnter' | 'onPointerLeave' | 'onFocus' | 'onBlur' | 'onScroll'
  >;

/** A box of rows of which only those are there that are seen. */
function RowsBox<T>(props: BoxProps<T>) {
  const {
    box,
    count,
    item,
    look,
    label,
    isWhole,
    offset,
    onSeen,
    below,
    children,
    sorted,
    onSort,
  } = props;
  const wide = useWide(box);
  const height = wide ? ROW.wide : ROW.narrow;
  const rows = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: 12,
    initialOffset: offset ?? 0,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows are measured anew when they change their form
  useEffect(() => rows.measure(), [wide]);
  const printing = usePrinting();
  const shown = printing ? onPaper(count, height) : rows.getVirtualItems();
  const [from, to] = [shown[0]?.index ?? 0, shown.at(-1)?.index ?? 0];
  useEffect(() => onSeen?.(from, to));
  return (
    <div className="@container relative flex min-h-64 flex-[1_1_0px] flex-col overflow-hidden rounded-lg border border-line bg-panel max-md:min-h-[70dvh] print:flex-none">
      {children}
      <div
        role="table"
        aria-label={label}
        aria-rowcount={isWhole ? count + 1 : -1}
        className="flex min-h-0 flex-1 flex-col"
        onKeyDown={throughRows}
      >
        <TableHead look={look} sorted={sorted} onSort={onSort} />
        <div
          ref={box}
          role="rowgroup"
          className="min-h-0 flex-[1_1_0px] overflow-auto outline-offset-[-2px] print:flex-none print:overflow-visible"
          onPointerEnter={props.onPointerEnter}
          onPointerLeave={props.onPointerLeave}
          onFocus={props.onFocus}
          onBlur={props.onBlur}
          onScroll={props.onScroll}
        >
          <div
            className="relative"
            style={{ height: printing ? shown.length * height : rows.getTotalSize() }}
          >
            {shown.map((row) => {
              const found = item(row.index);
              return (
                <div
                  // A row that shows another item is changed, not made anew: many come at once.
                  key={row.index}
                  className="absolute inset-x-0"
                  style={{ top: row.start, height }}
                >
                  {found && (
                    <TableRow
                      item={found.item}
                      look={look}
                      faded={found.gone}
                      index={row.index + 2}
                      wide={wide}
                    />
                  )}
                </div>
              );
            })}
          </div>
        </div>
      </div>
      <p className="flex flex-wrap items-center gap-x-3 border-line border-t px-3.5 py-0.5 text-[12px] text-ink-3">
        {below}
      </p>
    </div>
  );
}

/** Most rows that are printed. */
const ON_PAPER = 1000;

/** All rows, as far as they are there, one below the other. */
const onPaper = (count: number, height: number) =>
  Array.from({ length: Math.min(count, ON_PAPER) }, (_, index) => ({
    index,
    start: index * height,
  }));

/** Whether the page is being printed: then there is nothing to scroll. */
function usePrinting() {
  const [printing, setPrinting] = useState(false);
  useEffect(() => {
    // The rows must be there before this returns.
    const before = () => flushSync(() => setPrinting(true));
    const after = () => setPrinting(false);
    window.addEventListener('beforeprint', before);
    window.addEventListener('afterprint', after);
    return () => {
      window.removeEventListener('beforeprint', before);
      window.removeEventListener('afterprint', after);
    };
  }, []);
  return printing;
}

/** Whether a box has room for columns, as its own style sees it. */
function useWide(box: RefObject<HTMLElement | null>) {
  const [wide, setWide] = useState(true);
  useEffect(() => {
    if (!box.current) return;
    const seen = new ResizeObserver(([entry]) => entry && setWide(entry.contentRect.width >= 768));
    seen.observe(box.current);
    return () => seen.disconnect();
  });
  return wide;
}
