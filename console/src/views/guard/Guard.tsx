// One guard: what it limits, how that stands, and the jobs that it holds.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { type GuardItem, guard, jobs } from '../../api/client';
import { Empty, Facts, Header, Lost, Panel, Tag, Unanswered } from '../../ui/parts';
import { some } from '../../ui/words';
import { AsPublished } from '../definition/AsPublished';
import { Withdraw } from '../definition/Withdraw';
import { Circuits } from './Circuits';
import { Lines } from './Lines';

const PACE = 5_000;

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['guards', name],
    queryFn: () => guard(name),
    refetchInterval: PACE,
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const item = found.data;
  return (
    <>
      <Header title={item.name} right={<Withdraw kind="guard" name={item.name} to="/safety" />}>
        <Tag>guard</Tag>
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="Limits">
            <Lines guard={item} />
            <Circuits guard={item} />
          </Panel>
          <HeldJobs guard={item} />
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="Guard">
            <Facts rows={facts(item)} />
          </Panel>
          <AsPublished kind="guard" name={item.name} />
        </div>
      </div>
    </>
  );
}

const facts = (item: GuardItem): [string, React.ReactNode][] => [
  ['concerns', item.concerns],
  [
    'otherwise',
    item.otherwise === 'hold' ? 'a job is held until it may begin' : 'a job is refused',
  ],
  ['overrule', `${item.overrule} and above`],
  ['version', item.version],
];

function HeldJobs({ guard }: { guard: GuardItem }) {
  const found = useQuery({
    queryKey: ['jobs', 'held', guard.name],
    queryFn: () => jobs({ held_by: guard.name }),
    refetchInterval: PACE,
  });
  return (
    <Panel title="Held" aside={guard.holds > 0 ? some(guard.holds, 'job') : undefined}>
      <Unanswered question={found} />
      {found.data?.items.length === 0 && <Empty>It holds no job.</Empty>}
      <ul className="grid gap-1.5">
        {found.data?.items.map((job) => (
          <li key={job.id} className="min-w-0 break-words text-[13px]">
            <Link to={`/jobs/${job.id}`} className="font-semibold text-sea hover:underline">
              {job.runbook}
            </Link>{' '}
            <span className="mono">{job.target}</span>
            <br />
            <span className="text-ink-2">{job.held?.why}</span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}
