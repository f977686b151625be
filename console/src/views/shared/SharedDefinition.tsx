// One shared step, calendar or group: who uses it, and what a calendar holds.
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { type DefinitionDetail, definition } from '../../api/client';
import { Empty, Facts, Header, Lost, Panel, Tag } from '../../ui/parts';
import { Exact } from '../../ui/Time';
import { AsPublished } from '../definition/AsPublished';
import { UsedBy } from '../definition/UsedBy';
import { Withdraw } from '../definition/Withdraw';

const NOT_USED: Record<string, string> = {
  step: 'No runbook uses it.',
  calendar: 'No guard, plan or contact follows it.',
  group: 'No guard and no plan names it.',
};

/** Calendars that are read from elsewhere change without being published. */
const PACE = 60_000;

function SharedDefinition({ kind }: { kind: string }) {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['definitions', kind, name],
    queryFn: () => definition(kind, name),
    refetchInterval: kind === 'calendar' && PACE,
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const { item, used_by, calendar } = found.data;
  return (
    <>
      <Header title={item.name} right={<Withdraw kind={kind} name={item.name} to="/shared" />}>
        <Tag>{kind}</Tag>
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1.6fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          {calendar && <Events calendar={calendar} />}
          <Panel title="Used by">
            <UsedBy users={used_by} none={NOT_USED[kind] ?? 'Nothing uses it.'} />
          </Panel>
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          <AsPublished kind={kind} name={item.name} />
        </div>
      </div>
    </>
  );
}

function Events({ calendar }: { calendar: NonNullable<DefinitionDetail['calendar']> }) {
  const { reading, known, read_at, seen_at, failure, events } = calendar;
  const rows: [string, React.ReactNode][] = reading
    ? [
        ['read by', <code key="reading">{reading}</code>],
        ['last read', seen_at ? <Exact key="seen" at={seen_at} /> : 'not yet'],
        ['stands so since', read_at ? <Exact key="read" at={read_at} /> : 'not read yet'],
      ]
    : [];
  const now = Date.now();
  return (
    <Panel title="Events" aside="on now, or within two weeks">
      {rows.length > 0 && <Facts rows={rows} />}
      {failure && (
        <p className="my-2 break-words rounded-md bg-warn-soft px-3 py-1.5 text-warn">{failure}</p>
      )}
      {!known && <Empty>What is on is not known: it was never read.</Empty>}
      {known && events.length === 0 && <Empty>There is none.</Empty>}
      <ul className="mt-2 grid gap-1.5 text-[13px]">
        {events.map((event) => (
          <li key={`${event.from} ${event.summary}`} className="min-w-0 break-words">
            <b className="font-semibold">{event.summary}</b>{' '}
            {Date.parse(event.from) <= now && <Tag tone="warn">on</Tag>}
            <br />
            <span className="text-ink-2">
              <Exact at={event.from} /> to <Exact at={event.until} />
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}

export const Step = () => <SharedDefinition kind="step" />;
export const Calendar = () => <SharedDefinition kind="calendar" />;
export const Group = () => <SharedDefinition kind="group" />;
