// One plan: when it runs, what holds it back, its runs, what is remembered; running and skipping it.
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { type PlanItem, plan, runPlan } from '../../api/client';
import { Empty, Facts, Header, Lost, Panel, Tag } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';
import { some } from '../../ui/words';
import { AsPublished } from '../definition/AsPublished';
import { Withdraw } from '../definition/Withdraw';
import { Reason } from '../guard/Reason';
import { Remembered } from '../runbook/Remembered';
import { Times } from './Times';

const PACE = 5_000;

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['jobs', 'plan', name],
    queryFn: () => plan(name),
    refetchInterval: PACE,
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const { plan: item, coming, past } = found.data;
  return (
    <>
      <Header
        title={item.name}
        right={
          <>
            <Run item={item} />
            <Withdraw kind="plan" name={item.name} to="/plans" />
          </>
        }
      >
        <Tag>plan</Tag>
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      {item.trouble && (
        <p role="status" className="rounded-md bg-bad-soft px-3 py-2 text-bad">
          It cannot run: {item.trouble}
        </p>
      )}
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="To come">
            <Times entries={coming} />
            {coming.length === 0 && <Empty>{nothing(item)}</Empty>}
          </Panel>
          <Panel title="What was">
            <Times entries={past} />
            {past.length === 0 && <Empty>It has not run yet.</Empty>}
          </Panel>
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="Plan">
            <Facts rows={facts(item)} />
          </Panel>
          <Remembered runbook={`plan/${item.name}`} />
          <AsPublished kind="plan" name={item.name} />
        </div>
      </div>
    </>
  );
}

const nothing = (item: PlanItem) =>
  item.times ? 'It has no time to come.' : 'It runs when somebody runs it.';

function facts(item: PlanItem): [string, React.ReactNode][] {
  const rows: [string, React.ReactNode][] = [];
  rows.push([
    'runs',
    <Link key="runs" to={`/runbooks/${item.runbook}`} className="text-sea hover:underline">
      {item.runbook}
    </Link>,
  ]);
  if (item.resources.length > 0) {
    rows.push([
      'on',
      <details key="on">
        <summary>{some(item.resources.length, 'resource')}</summary>
        <span className="mono break-words text-[12px]">{item.resources.join(', ')}</span>
      </details>,
    ]);
  }
  rows.push(['when', item.times ?? 'by hand']);
  rows.push(['next', item.next ? <Exact key="next" at={item.next.at} /> : 'none']);
  rows.push(['version', item.version]);
  return rows;
}

/** Runs it now, whatever its times. */
function Run({ item }: { item: PlanItem }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const [why, setWhy] = useState('');
  if (!may) return null;
  return (
    <Sure
      ask="Run now…"
      title={`Run plan ${item.name} now?`}
      act="Run it"
      disabled={!why.trim() || !!item.trouble}
      onAct={async () => {
        await runPlan(item.name, why.trim());
        await queries.invalidateQueries({ queryKey: ['jobs'] });
      }}
    >
      <p>
        It launches runbook <b className="font-semibold">{item.runbook}</b>
        {item.resources.length > 0 && ` on ${some(item.resources.length, 'resource')}`}, whatever
        its times are, and asks and waits as it does then.
      </p>
      <Reason value={why} onType={setWhy} />
    </Sure>
  );
}
