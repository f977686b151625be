// Jobs that rules propose: those that wait for a person, or all.
import { Link, useSearchParams } from 'react-router';
import { type Proposal, type ProposalFilter, proposals } from '../../api/client';
import { Chips, Filter, Narrow } from '../../ui/filters';
import { LongList } from '../../ui/LongList';
import { Header, Tag, type Tone } from '../../ui/parts';
import type { Look } from '../../ui/Table';
import { Time } from '../../ui/Time';

export const STATES: Record<Proposal['state'], Tone> = {
  open: 'warn',
  launched: 'sea',
  dismissed: 'plain',
  withdrawn: 'plain',
  faulty: 'bad',
};

const ANSWERS = ['open', 'launched', 'dismissed', 'withdrawn', 'faulty'] as const;
const NARROWED = ['rule', 'runbook', 'target'] as const;
const KNOWN = [...NARROWED, 'state'] as const;

export function Component() {
  const [params] = useSearchParams();
  const filter: ProposalFilter = { state: 'open' };
  for (const key of KNOWN) {
    const value = params.get(key);
    if (value) filter[key] = value;
  }
  if (filter.state === 'any') delete filter.state;
  return (
    <>
      <Header
        title="Proposals"
        right={
          <>
            <Filter
              name="state"
              label="State"
              options={ANSWERS}
              usual="open"
              called={{ open: 'waiting for a person', any: 'all' }}
            />
            <Narrow by={NARROWED} />
          </>
        }
      />
      <Chips known={KNOWN} chosen={['state']} />
      <LongList
        of={{
          key: ['proposals', filter],
          ask: (after) => proposals(filter, after),
          handle: (p) => p.id,
        }}
        look={LOOK}
        label="Proposals, newest first"
        what="proposal"
        none={
          filter.state === 'open' ? 'No proposal waits for a person.' : 'No proposal is like that.'
        }
      />
    </>
  );
}

const state = (p: Proposal) => (
  <Tag tone={STATES[p.state]}>{p.state === 'open' ? 'proposed' : p.state}</Tag>
);

const LOOK: Look<Proposal> = {
  to: (p) => `/proposals/${p.id}`,
  columns: [
    { head: 'No.', width: '40px', cell: (p) => <b>{p.id}</b>, by: (p) => p.id },
    {
      head: 'Made',
      width: '80px',
      quiet: true,
      cell: (p) => <Time at={p.created_at} />,
      by: (p) => p.created_at,
    },
    { head: 'Rule', width: 'minmax(0,0.9fr)', cell: (p) => p.rule, by: (p) => p.rule },
    {
      head: 'Runbook',
      width: 'minmax(0,0.7fr)',
      link: true,
      cell: (p) => <b>{p.runbook}</b>,
      by: (p) => p.runbook,
    },
    {
      head: 'Target',
      width: 'minmax(0,1fr)',
      mono: true,
      cell: (p) => p.target,
      by: (p) => p.target,
    },
    {
      head: 'Why',
      width: 'minmax(0,2fr)',
      quiet: true,
      cell: (p) => p.reason,
      by: (p) => p.reason,
    },
    { head: 'State', width: '80px', cell: state, by: (p) => p.state },
  ],
  narrow: (p) => [
    <>
      <b key="runbook" className="min-w-0 flex-1 truncate">
        {p.runbook}
      </b>
      {state(p)}
    </>,
    <>
      <Time key="time" at={p.created_at} />
      <span key="target" className="mono min-w-0 flex-1 truncate">
        {p.target}
      </span>
    </>,
  ],
};

export function ProposalRow({ proposal: p }: { proposal: Proposal }) {
  return (
    <Link
      to={`/proposals/${p.id}`}
      className="block border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk"
    >
      <span className="flex items-start justify-between gap-2">
        <b className="font-semibold">{p.runbook}</b>
        <span className="flex items-center gap-2 text-ink-3">
          <Time at={p.created_at} age />
          <Tag tone={STATES[p.state]}>{p.state === 'open' ? 'proposed' : p.state}</Tag>
        </span>
      </span>
      <span className="mono block break-all text-ink-2">{p.target}</span>
      <span className="text-[13px] text-ink-3">{p.reason}</span>
    </Link>
  );
}
