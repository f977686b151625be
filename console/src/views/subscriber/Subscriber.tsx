// One subscriber: how it stands, its events, and having those sent once more that it did not take.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import {
  confirmSubscriber,
  type Outgoing,
  outgoing,
  replayEvents,
  type Subscriber,
  subscriber,
} from '../../api/client';
import { Button, Empty, Facts, Failed, Header, Lost, Panel, Tag, type Tone } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { type Look, Table } from '../../ui/Table';
import { Exact, Time } from '../../ui/Time';
import { some } from '../../ui/words';
import { AsPublished } from '../definition/AsPublished';
import { Withdraw } from '../definition/Withdraw';
import { Standing } from './Standing';

const TONES: Record<Outgoing['state'], Tone> = {
  waiting: 'warn',
  delivered: 'good',
  'given-up': 'bad',
};
const kind = (event: Outgoing) => event.kind.replace(/^arvok\./, '');
const said = (event: Outgoing) =>
  event.state === 'delivered' ? event.summary : (event.failure ?? event.summary);

const LOOK: Look<Outgoing> = {
  to: (e) => (e.job ? `/jobs/${e.job}` : undefined),
  columns: [
    { head: 'Happened', width: '80px', quiet: true, cell: (e) => <Time at={e.at} /> },
    { head: 'Event', width: 'minmax(0,1fr)', link: true, cell: (e) => <b>{kind(e)}</b> },
    { head: 'Resource', width: 'minmax(0,1fr)', mono: true, cell: (e) => e.resource },
    { head: 'What happened', width: 'minmax(0,1.6fr)', quiet: true, cell: said },
    { head: 'Tries', width: '44px', right: true, quiet: true, cell: (e) => e.tries },
    { head: 'State', width: '84px', cell: (e) => <Tag tone={TONES[e.state]}>{e.state}</Tag> },
  ],
  narrow: (e) => [
    <>
      <b key="event" className="min-w-0 flex-1 truncate">
        {kind(e)}
      </b>
      <Tag key="state" tone={TONES[e.state]}>
        {e.state}
      </Tag>
    </>,
    <>
      <Time key="at" at={e.at} />
      <span key="said" className="min-w-0 flex-1 truncate">
        {said(e)}
      </span>
    </>,
  ],
};

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({ queryKey: ['subscribers', name], queryFn: () => subscriber(name) });
  const events = useQuery({
    queryKey: ['subscribers', name, 'events'],
    queryFn: () => outgoing(name),
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const item = found.data;
  const items = events.data?.items ?? [];
  return (
    <>
      <Header
        title={item.name}
        right={
          <>
            <Withdraw kind="subscriber" name={item.name} to="/subscribers" />
            <Actions item={item} />
          </>
        }
      >
        <Standing of={item} />
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      {item.trouble && (
        <p className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">
          {item.trouble}
          {item.failures > 1 && `, at ${item.failures} tries in a row`}
          {item.state === 'gone' && '. It wants no events any more.'}
        </p>
      )}
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
        <Panel title="Events" aside="newest first" className="self-start">
          {events.error && <Failed error={events.error} />}
          {events.data && items.length === 0 && <Empty>No event is kept for it.</Empty>}
          {items.length > 0 && (
            <Table items={items} id={(e) => e.number} look={LOOK} label="Events" within />
          )}
        </Panel>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="How it stands">
            <Facts rows={facts(item)} />
          </Panel>
          <AsPublished kind="subscriber" name={item.name} />
        </div>
      </div>
    </>
  );
}

function facts(item: Subscriber): [string, React.ReactNode][] {
  const all: [string, React.ReactNode][] = [
    ['address', <code key="a">{item.address ?? 'not known'}</code>],
    ['agreed', item.confirmed_at ? <Exact key="agreed" at={item.confirmed_at} /> : 'not yet'],
    ['taken', item.delivered],
    ['waiting', item.waiting],
    ['given up', item.given_up],
  ];
  if (item.left_out) all.push(['left out', `${item.left_out}, since too many waited`]);
  if (item.rate) all.push(['wants', `at most ${item.rate} a minute`]);
  if (item.delivered_at) all.push(['last taken', <Exact key="last" at={item.delivered_at} />]);
  return all;
}

function Actions({ item }: { item: Subscriber }) {
  const queries = useQueryClient();
  const may = useMay('responder');
  const anew = { onSettled: () => queries.invalidateQueries({ queryKey: ['subscribers'] }) };
  const asked = useMutation({ mutationFn: () => confirmSubscriber(item.name), ...anew });
  const again = useMutation({ mutationFn: () => replayEvents(item.name), ...anew });
  if (!may) return <Needs least="responder">Sending again</Needs>;
  const wrong = asked.error ?? again.error;
  return (
    <>
      {wrong && <span className="text-bad">{wrong.message}</span>}
      {again.data && <span>{some(again.data.events, 'event')} will be sent once more</span>}
      {(item.state !== 'confirmed' || item.failures > 0) && item.state !== 'faulty' && (
        <Button onClick={() => asked.mutate()} disabled={asked.isPending}>
          {item.state === 'confirmed' ? 'Try now' : 'Ask now'}
        </Button>
      )}
      {item.given_up > 0 && (
        <Button look="go" onClick={() => again.mutate()} disabled={again.isPending}>
          Send {item.given_up} once more
        </Button>
      )}
      <Link to="/subscribers" className="font-semibold text-sea hover:underline">
        All
      </Link>
    </>
  );
}
