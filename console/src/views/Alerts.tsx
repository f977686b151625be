// What came: a live list of many thousands.
import { Link, useSearchParams } from 'react-router';
import {
  type AlertFilter,
  type AlertItem,
  alerts,
  type TimelineMark,
  timeline,
} from '../api/client';
import { Chips, Filter, Narrow, Search, Trials } from '../ui/filters';
import { LongList } from '../ui/LongList';
import { Gauge, RANK, VerdictMark } from '../ui/marks';
import { Header, TrialTag } from '../ui/parts';
import { SavedViews } from '../ui/SavedViews';
import type { Look } from '../ui/Table';
import { Time } from '../ui/Time';
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
  'muted',
  'frozen',
  'symptom',
  'broken',
] as const;
const NARROWED = ['source', 'kind', 'resource', 'rule'] as const;
const CHOSEN = ['text', 'severity', 'state', 'verdict', 'trial'] as const;
const KNOWN = [...NARROWED, ...CHOSEN, 'outcome', 'since', 'until'] as const;

/** How far alerts came, as the band on Watch says it. */
const OUTCOMES: Record<string, string> = {
  distinct: 'of all senders',
  unmatched: 'without a rule',
  matched: 'matched',
  'under-way': 'under way',
  unproved: 'without proof',
  held: 'held back',
};
const chip = (name: string, value: string) =>
  name === 'outcome' ? `in the end ${OUTCOMES[value] ?? value}` : undefined;

const LOOK: Look<AlertItem> = {
  to: (a) => `/alerts/${a.seq}`,
  columns: [
    {
      head: '',
      width: '14px',
      cell: (a) => <Gauge severity={a.severity} cleared={a.state === 'cleared'} small />,
      by: (a) => RANK[a.severity],
    },
    {
      head: 'Received',
      width: '80px',
      quiet: true,
      cell: (a) => <Time at={a.received} />,
      by: (a) => a.seq,
    },
    {
      head: 'Source',
      width: 'minmax(0,0.8fr)',
      quiet: true,
      cell: (a) => a.source,
      by: (a) => a.source,
    },
    { head: 'Kind', width: 'minmax(0,0.7fr)', mono: true, cell: (a) => a.kind, by: (a) => a.kind },
    {
      head: 'Resource',
      width: 'minmax(0,1.3fr)',
      mono: true,
      link: true,
      cell: (a) => <b>{a.resource}</b>,
      by: (a) => a.resource,
    },
    { head: 'Value', width: '58px', right: true, cell: (a) => a.value ?? '', by: (a) => a.value },
    {
      head: 'Summary',
      width: 'minmax(0,1.8fr)',
      quiet: true,
      cell: (a) => a.summary,
      by: (a) => a.summary,
    },
    { head: 'Verdict', width: '150px', cell: verdict, by: (a) => firstOf(a)?.verdict },
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

/** Of the verdicts on an alert one that led somewhere, if any did. */
const firstOf = (a: AlertItem) =>
  [...a.verdicts].sort((x, y) => Number(!x.job) - Number(!y.job))[0];

function verdict(a: AlertItem) {
  const first = firstOf(a);
  const others = a.verdicts.length - 1;
  if (!first)
    return (
      <>
        <TrialTag trial={a.trial} /> <span className="text-ink-3">no rule</span>
      </>
    );
  return (
    <>
      <TrialTag trial={a.trial} /> <VerdictMark verdict={first.verdict} />
      {others > 0 && <span className="text-ink-3"> +{others}</span>}
      {first.job && (
        <Link
          to={first.verdict === 'proposed' ? `/proposals/${first.job}` : `/jobs/${first.job}`}
          className="relative z-[1] ml-1.5 text-sea underline decoration-dotted underline-offset-2"
        >
          {first.job}
        </Link>
      )}
    </>
  );
}

/** What was acted on, what was held, what needed nothing; of all rules, or of one. */
const overTime = (rule?: string | null): OverTime<TimelineMark> => ({
  what: 'Alerts',
  queryKey: ['timeline', 'alerts', rule],
  ask: (since) => timeline(since, rule ?? undefined),
  layers: [
    {
      colour: 'var(--sea)',
      means: 'dispatched or proposed',
      count: (m) => m.dispatched + m.proposed,
    },
    { colour: 'var(--sev-3)', means: 'held or watched', count: (m) => m.held + m.watched },
    {
      colour: 'var(--ink-3)',
      means: rule ? 'folded' : 'folded or no rule',
      count: (m) => m.folded + m.unmatched,
    },
  ],
});

const NoneYet = () => (
  <>
    No alert has come yet. They come from{' '}
    <Link to="/sources" className="text-sea underline underline-offset-2">
      sources
    </Link>
    .
  </>
);

export function Component() {
  const [params] = useSearchParams();
  const filter: AlertFilter = {};
  for (const key of KNOWN) {
    const value = params.get(key);
    // Chosen is the least of them.
    if (key === 'trial') {
      if (value) filter.trial = value === 'true';
    } else if (value)
      filter[key] = key === 'severity' && !value.includes('..') ? `${value}..` : value;
  }
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
            <Trials />
            <Narrow by={NARROWED} />
            <SavedViews />
          </>
        }
      />
      <Chips known={KNOWN} chosen={CHOSEN} shown={chip} />
      <Timeline of={overTime(filter.rule)} />
      <LongList
        of={{
          key: ['alerts', filter],
          ask: (after) => alerts(filter, after),
          handle: (alert) => alert.seq,
        }}
        look={LOOK}
        label="Alerts, newest first"
        what="alert"
        none={Object.keys(filter).length > 0 ? 'No alert is like that.' : <NoneYet />}
      />
    </>
  );
}
