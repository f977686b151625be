// What came: a live list of many thousands.
import { useInfiniteQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { type RefObject, useEffect, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { type AlertFilter, type AlertItem, alerts, type TimelineMark, timeline } from '../api/client';
import { Filter, Search } from '../ui/filters';
import { Gauge, VerdictMark } from '../ui/marks';
import { Button, Empty, Header, Time, Unanswered } from '../ui/parts';
import { type Look, ROW, TableHead, TableRow } from '../ui/Table';
import { type OverTime, Timeline } from '../ui/Timeline';

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
const LOOK: Look<AlertItem> = {
  to: (a) => `/alerts/${a.seq}`,
  columns: [
    {
      head: '',
      width: '14px',
      cell: (a) => <Gauge severity={a.severity} cleared={a.state === 'cleared'} small />,
    },
    { head: 'Received', width: '62px', quiet: true, cell: (a) => <Time at={a.received} /> },
    { head: 'Source', width: 'minmax(0,0.8fr)', quiet: true, cell: (a) => a.source },
    { head: 'Kind', width: 'minmax(0,0.7fr)', mono: true, cell: (a) => a.kind },
    { head: 'Resource', width: 'minmax(0,1.3fr)', mono: true, cell: (a) => <b>{a.resource}</b> },
    { head: 'Value', width: '58px', right: true, cell: (a) => a.value ?? '' },
    { head: 'Summary', width: 'minmax(0,1.8fr)', quiet: true, cell: (a) => a.summary },
    { head: 'Verdict', width: '112px', cell: verdict },
  ],
  narrow: (a) => [
    <>
      <Gauge key="gauge" severity={a.severity} cleared={a.state === 'cleared'} small />
      <b key="resource" className="mono min-w-0 flex-1 truncate">
        {a.resource}
      </b>
      {verdict(a)}
    </>,
    <>
      <Time key="time" at={a.received} />
      <span key="kind" className="mono min-w-0 flex-1 truncate">
        {a.kind}
      </span>
      {a.value ?? ''}
    </>,
  ],
};

function verdict(a: AlertItem) {
  const [first, ...others] = a.verdicts;
  if (!first) return <span className="text-ink-3">no rule</span>;
  return (
    <>
      <VerdictMark verdict={first.verdict} />
      {others.length > 0 && <span className="text-ink-3"> +{others.length}</span>}
    </>
  );
}

/** What was acted on, what was held, what needed nothing; of all rules, or of one. */
const overTime = (rule?: string | null): OverTime<TimelineMark> => ({
  what: 'Alerts',
  queryKey: ['alerts', 'timeline', rule],
  ask: (since) => timeline(since, rule ?? undefined),
  layers: [
    { colour: 'var(--sea)', means: 'dispatched or proposed', count: (m) => m.dispatched + m.proposed },
    { colour: 'var(--sev-3)', means: 'held or watched', count: (m) => m.held + m.watched },
    {
      colour: 'var(--ink-3)',
      means: rule ? 'folded' : 'folded or no rule',
      count: (m) => m.folded + m.unmatched,
    },
  ],
});

export function Component() {
  const [params] = useSearchParams();
  const filter: AlertFilter = {};
  for (const key of ['severity', 'state', 'verdict', 'rule', 'text', 'since', 'until'] as const) {
    const value = params.get(key);
    // Chosen is the least of them.
    if (value) filter[key] = key === 'severity' ? `${value}..` : value;
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
      <Timeline of={overTime(filter.rule)} />
      <Unanswered question={found} />
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
  const wide = useWide(box);
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => box.current,
    estimateSize: () => (wide ? ROW.wide : ROW.narrow),
    overscan: 12,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows are measured anew when they change their form
  useEffect(() => rows.measure(), [wide]);
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && last >= items.length - 80) onEnd();
  }, [more, last, items.length, onEnd]);
  return (
    <div className="@container flex min-h-0 flex-1 flex-col overflow-hidden rounded-lg border border-line bg-panel">
      <TableHead look={LOOK} />
      <section
        ref={box}
        aria-label="Alerts, newest first"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
        tabIndex={0}
        className={`overflow-auto ${short ? 'h-[calc(100dvh-238px)]' : 'h-[calc(100dvh-186px)]'}`}
      >
        <ul className="relative" style={{ height: rows.getTotalSize() }}>
          {shown.map((row) => {
            const item = items[row.index];
            return item ? (
              <li key={item.seq} className="absolute inset-x-0" style={{ top: row.start }}>
                <TableRow item={item} look={LOOK} />
              </li>
            ) : null;
          })}
        </ul>
      </section>
    </div>
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
  }, [box]);
  return wide;
}
