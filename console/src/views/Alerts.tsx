// What came: a live list of many thousands.
import { useInfiniteQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef } from 'react';
import { Link, useSearchParams } from 'react-router';
import { type AlertFilter, type AlertItem, alerts } from '../api/client';
import { Filter, Search } from '../ui/filters';
import { Gauge, VerdictMark } from '../ui/marks';
import { Button, Empty, Failed, Header, Time } from '../ui/parts';

const SEVERITIES = ['warning', 'minor', 'major', 'critical'] as const;
const STATES = ['raised', 'cleared', 'noted'] as const;
const VERDICTS = [
  'matched',
  'unmatched',
  'held',
  'dispatched',
  'proposed',
  'watched',
  'idle',
  'folded',
  'waiting',
  'resting',
  'capped',
  'flapping',
  'symptom',
  'broken',
] as const;
const ROW = 44;
const GRID =
  'grid grid-cols-[20px_1fr_auto] md:grid-cols-[20px_76px_150px_minmax(0,1fr)_minmax(0,1.4fr)_120px] items-center gap-x-3 px-3.5';

export function Component() {
  const [params] = useSearchParams();
  const filter: AlertFilter = {};
  for (const key of ['severity', 'state', 'verdict', 'rule', 'text'] as const) {
    const value = params.get(key);
    if (value) filter[key] = value;
  }
  const found = useInfiniteQuery({
    queryKey: ['alerts', filter],
    queryFn: ({ pageParam }) => alerts(filter, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
    maxPages: 250,
  });
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  // One question goes through so many alerts; whoever wants more asks for it.
  const stopped = found.data?.pages.at(-1)?.bounded ?? false;
  return (
    <>
      <Header
        title="Alerts"
        right={
          <>
            <Search label="Search" />
            <Filter name="severity" label="At least" options={SEVERITIES} />
            <Filter name="state" label="State" options={STATES} />
            <Filter name="verdict" label="Verdict" options={VERDICTS} />
          </>
        }
      >
        {filter.rule && <span className="text-ink-2">of rule {filter.rule}</span>}
      </Header>
      {found.error && <Failed error={found.error} />}
      {found.isSuccess && items.length === 0 && !stopped && <Empty>No alert is like that.</Empty>}
      {items.length > 0 && (
        <List
          items={items}
          more={found.hasNextPage && !found.isFetching && !stopped}
          short={stopped}
          onEnd={() => void found.fetchNextPage()}
        />
      )}
      {stopped && (
        <p className="flex items-center gap-3 px-3.5 py-2 text-ink-2">
          {items.length === 0 ? 'None so far.' : 'These are all so far.'} Older alerts have not been looked
          through.
          <Button disabled={found.isFetching} onClick={() => void found.fetchNextPage()}>
            Look further back
          </Button>
        </p>
      )}
    </>
  );
}

type ListProps = { items: AlertItem[]; more: boolean; short: boolean; onEnd: () => void };

function List({ items, more, short, onEnd }: ListProps) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && last >= items.length - 40) onEnd();
  }, [more, last, items.length, onEnd]);
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-hidden rounded-lg border border-line bg-panel">
      <div
        className={`${GRID} hidden border-line border-b py-1.5 font-semibold text-[12px] text-ink-3 md:grid`}
      >
        <span />
        <span>Received</span>
        <span>Kind</span>
        <span>Resource</span>
        <span>Summary</span>
        <span>Verdict</span>
      </div>
      <section
        ref={box}
        aria-label="Alerts, newest first"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
        tabIndex={0}
        className={`overflow-auto ${short ? 'h-[calc(100dvh-205px)]' : 'h-[calc(100dvh-150px)]'}`}
      >
        <ul className="relative" style={{ height: rows.getTotalSize() }}>
          {shown.map((row) => {
            const item = items[row.index];
            return item ? <Row key={item.seq} item={item} top={row.start} /> : null;
          })}
        </ul>
      </section>
    </div>
  );
}

function Row({ item, top }: { item: AlertItem; top: number }) {
  return (
    <li className="absolute inset-x-0 h-11 border-line border-b" style={{ top }}>
      <Link to={`/alerts/${item.seq}`} className={`${GRID} h-full hover:bg-sunk`}>
        <Gauge severity={item.severity} cleared={item.state === 'cleared'} />
        <span className="hidden text-ink-2 md:block">
          <Time at={item.received} />
        </span>
        <span className="mono hidden truncate md:block">{item.kind}</span>
        <span className="mono truncate font-semibold">{item.resource}</span>
        <span className="hidden truncate text-ink-2 md:block">{item.summary}</span>
        <span className="text-[13px]">
          {item.verdicts[0] ? (
            <VerdictMark verdict={item.verdicts[0].verdict} />
          ) : (
            <span className="text-ink-3">no rule</span>
          )}
          {item.verdicts.length > 1 && <span className="text-ink-3"> +{item.verdicts.length - 1}</span>}
        </span>
      </Link>
    </li>
  );
}
