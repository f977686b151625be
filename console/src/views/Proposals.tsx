// Jobs that rules propose: those that wait first, then those that were decided.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type Proposal, proposals } from '../api/client';
import { Empty, Failed, Header, Panel, Tag, Time, type Tone } from '../ui/parts';

export const STATES: Record<string, Tone> = {
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
      {found.error && <Failed error={found.error} />}
      {found.data && (
        <Panel>
          {items.length === 0 && <Empty>No rule with the stance propose has proposed anything.</Empty>}
          {items.map((p) => (
            <ProposalRow key={p.id} proposal={p} />
          ))}
        </Panel>
      )}
    </>
  );
}

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
