// Jobs that rules propose: those that wait first, then those that were decided.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type Proposal, proposals } from '../api/client';
import { Empty, Header, Tag, Time, type Tone, Unanswered } from '../ui/parts';
import { type Look, Table } from '../ui/Table';

export const STATES: Record<Proposal['state'], Tone> = {
  open: 'warn',
  launched: 'sea',
  dismissed: 'plain',
  withdrawn: 'plain',
  faulty: 'bad',
};

export function Component() {
  const found = useQuery({ queryKey: ['proposals'], queryFn: () => proposals() });
  const items = [...(found.data?.items ?? [])];
  items.sort((a, b) => Number(b.state === 'open') - Number(a.state === 'open'));
  return (
    <>
      <Header title="Proposals">
        {found.data && (
          <span className="text-ink-2">
            {items.filter((p) => p.state === 'open').length} wait for a person
          </span>
        )}
      </Header>
      <Unanswered question={found} />
      {found.data && items.length === 0 && (
        <Empty>No rule with the stance propose has proposed anything.</Empty>
      )}
      {items.length > 0 && <Table items={items} id={(p) => p.id} look={LOOK} />}
    </>
  );
}

const state = (p: Proposal) => <Tag tone={STATES[p.state]}>{p.state === 'open' ? 'proposed' : p.state}</Tag>;

const LOOK: Look<Proposal> = {
  to: (p) => `/proposals/${p.id}`,
  columns: [
    { head: 'No.', width: '40px', cell: (p) => <b>{p.id}</b> },
    { head: 'Made', width: '66px', quiet: true, cell: (p) => <Time at={p.created_at} /> },
    { head: 'Rule', width: 'minmax(0,0.9fr)', cell: (p) => p.rule },
    { head: 'Runbook', width: 'minmax(0,0.7fr)', cell: (p) => <b>{p.runbook}</b> },
    { head: 'Target', width: 'minmax(0,1fr)', mono: true, cell: (p) => p.target },
    { head: 'Why', width: 'minmax(0,2fr)', quiet: true, cell: (p) => p.reason },
    { head: 'State', width: '80px', cell: state },
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
