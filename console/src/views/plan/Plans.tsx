// Plans: a calendar of what was and what is to come, and each with its next time and its last run.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type PlanItem, plans } from '../../api/client';
import { Empty, Header, Panel, Tag, Unanswered } from '../../ui/parts';
import { Exact } from '../../ui/Time';
import { some } from '../../ui/words';
import { Calendar } from './Calendar';
import { outcome, tone } from './entry';

const PACE = 15_000;

export function Component() {
  const found = useQuery({
    queryKey: ['jobs', 'plans'],
    queryFn: plans,
    refetchInterval: PACE,
  });
  return (
    <>
      <Header title="Plans" />
      <div className="flex flex-col gap-3.5">
        <Calendar />
        <Panel title="Plans" aside="runbooks that run by themselves">
          <Unanswered question={found} />
          <div className="grid gap-x-6 gap-y-3 md:grid-cols-2 xl:grid-cols-3">
            {found.data?.items.map((item) => (
              <Item key={item.name} item={item} />
            ))}
          </div>
          {found.data?.items.length === 0 && (
            <Empty>
              There are none. A <code>plan:</code> document runs a runbook at times, on one resource
              after another.
            </Empty>
          )}
        </Panel>
      </div>
    </>
  );
}

function Item({ item }: { item: PlanItem }) {
  const { last, next } = item;
  return (
    <section aria-label={`Plan ${item.name}`} className="min-w-0 text-[13px]">
      <p className="flex flex-wrap items-baseline justify-between gap-x-3">
        <Link to={`/plans/${item.name}`} className="font-semibold text-sm hover:underline">
          {item.name}
        </Link>
        {last && (
          <Link to={`/jobs/${last.job}`} className="hover:underline">
            <Tag tone={tone(last)}>{outcome(last)}</Tag>
          </Link>
        )}
      </p>
      <p className="break-words text-ink-2">
        {item.runbook}
        {item.resources.length > 0 && ` on ${some(item.resources.length, 'resource')}`},{' '}
        {item.times ?? 'by hand'}
      </p>
      {item.trouble && <p className="break-words text-bad">Cannot run: {item.trouble}</p>}
      {next && (
        <p className="break-words">
          Next <Exact at={next.at} />
          {next.frozen && (
            <span className="text-warn">
              , {outcome(next)} by guard {next.frozen.guard}
            </span>
          )}
        </p>
      )}
    </section>
  );
}
