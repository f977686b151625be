// A list of any length in a box that scrolls: only the rows that are seen are there. It holds still while it is read, and
// says how many came meanwhile.
// biome-ignore-all lint/a11y/useSemanticElements: a grid of CSS, or rows that are not all there, cannot be a table of HTML
import { useVirtualizer } from '@tanstack/react-virtual';
import { type ReactNode, type RefObject, useEffect, useLayoutEffect, useRef, useState } from 'react';
import { type ListOf, useHeldList } from '../api/held';
import { Button, Empty, Failed, Unanswered } from './parts';
import { type Look, ROW, TableHead, TableRow, throughRows } from './Table';
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

/** The same list under other filters is another list. */
export function LongList<T>(props: Props<T>) {
  return <List key={JSON.stringify(props.of.key)} {...props} />;
}

function List<T>({ of, look, label, what, none }: Props<T>) {
  const list = useHeldList(of);
  const box = useRef<HTMLDivElement>(null);
  const wide = useWide(box);
  const height = wide ? ROW.wide : ROW.narrow;
  const first = useRef(list.offset);
  const rows = useVirtualizer({
    count: list.count,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: 12,
    initialOffset: first.current,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows are measured anew when they change their form
  useEffect(() => rows.measure(), [wide]);
  const there = list.count > 0;
  useLayoutEffect(() => {
    if (there && box.current && first.current > 0) box.current.scrollTop = first.current;
    if (there) first.current = 0;
  }, [there]);
  const shown = rows.getVirtualItems();
  const [from, to] = [shown[0]?.index ?? 0, shown.at(-1)?.index ?? 0];
  useEffect(() => {
    list.see(from, to);
    if (list.hasMore && !list.stopped && !list.failed && list.held && to >= list.count - 80) void list.more();
  });
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
        <div className="@container relative flex min-h-64 flex-[1_1_0px] flex-col overflow-hidden rounded-lg border border-line bg-panel max-md:min-h-[70dvh]">
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
          <div
            role="table"
            aria-label={label}
            aria-rowcount={list.hasMore ? -1 : list.count + 1}
            className="flex min-h-0 flex-1 flex-col"
            onKeyDown={throughRows}
          >
            <TableHead look={look} />
            <div
              ref={box}
              role="rowgroup"
              className="min-h-0 flex-[1_1_0px] overflow-auto outline-offset-[-2px]"
              onPointerEnter={list.hold}
              onPointerLeave={left}
              onFocus={list.hold}
              onBlur={left}
              onScroll={(event) => {
                list.keepOffset(event.currentTarget.scrollTop);
                if (event.currentTarget.scrollTop > 0) list.hold();
                else left();
              }}
            >
              <div className="relative" style={{ height: rows.getTotalSize() }}>
                {shown.map((row) => {
                  const found = list.item(row.index);
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
          <p className="flex items-center gap-3 border-line border-t px-3.5 py-0.5 text-[12px] text-ink-3">
            <span role="status">
              {some(list.count, what)}
              {list.hasMore && !list.stopped ? ' so far; more come as you scroll' : ''}
              {list.asking ? ', asking for more' : ''}
            </span>
          </p>
        </div>
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
            {list.count > 0 ? 'These are all so far.' : 'None so far.'} Older ones have not been looked
            through.
          </span>
          <Button disabled={list.asking} onClick={() => void list.more()}>
            Look further back
          </Button>
        </p>
      )}
    </>
  );
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
