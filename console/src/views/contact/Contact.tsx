// One contact: by which ways somebody would be reached now, and in which order.
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { type Contact, contact } from '../../api/client';
import { Empty, Facts, Header, Lost, Panel, Tag } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { AsPublished } from '../definition/AsPublished';
import { Withdraw } from '../definition/Withdraw';
import { onDuty } from './words';

type Way = Contact['ways'][number] & { turn: number; to?: string };

const LOOK: Look<Way> = {
  to: (w) => w.to,
  columns: [
    { head: '', width: '28px', right: true, quiet: true, cell: (w) => w.turn },
    {
      head: 'Person',
      width: 'minmax(0,1fr)',
      cell: (w) => (w.now ? <b>{w.contact}</b> : w.contact),
    },
    { head: 'Way', width: 'minmax(0,1.4fr)', mono: true, cell: (w) => `${w.call} via ${w.via}` },
    { head: 'Waits', width: '64px', right: true, cell: (w) => w.wait },
    { head: 'Hours', width: 'minmax(0,1.2fr)', quiet: true, cell: (w) => w.hours ?? 'always' },
    { head: '', width: '76px', cell: (w) => !w.now && <Tag tone="warn">not now</Tag> },
  ],
  narrow: (w) => [
    <>
      <b key="person" className="min-w-0 flex-1 truncate">
        {w.turn}. {w.contact}
      </b>
      {!w.now && (
        <Tag key="now" tone="warn">
          not now
        </Tag>
      )}
    </>,
    <>
      <span key="way" className="min-w-0 flex-1 truncate">
        {w.call} via {w.via}, waits {w.wait}
      </span>
      <span key="hours">{w.hours ?? 'always'}</span>
    </>,
  ],
};

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['contacts', name],
    queryFn: () => contact(name),
    refetchInterval: 60_000,
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const item = found.data;
  const isTeam = item.members.length > 0;
  const to = (name: string) => (isTeam ? `/contacts/${name}` : undefined);
  const ways = item.ways.map((way, n) => ({ ...way, turn: n + 1, to: to(way.contact) }));
  return (
    <>
      <Header title={item.name} right={<Withdraw kind="contact" name={item.name} to="/contacts" />}>
        <Tag>{isTeam ? 'team' : 'person'}</Tag>
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      {item.without_token.length > 0 && (
        <p className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">
          {item.without_token.join(', ')} cannot sign in to decide: no token has that name.
        </p>
      )}
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
        <Panel
          title="Ways"
          aside="in the order in which they would be tried now"
          className="self-start"
        >
          {ways.length === 0 && <Empty>No way leads there: no member is published.</Empty>}
          {ways.length > 0 && (
            <Table items={ways} id={(w) => w.turn} look={LOOK} label="Ways" within />
          )}
        </Panel>
        <div className="flex min-w-0 flex-col gap-3.5">
          {isTeam && (
            <Panel title="Team">
              <Facts rows={facts(item)} />
            </Panel>
          )}
          <AsPublished kind="contact" name={item.name} />
        </div>
      </div>
    </>
  );
}

const facts = (item: Contact): [string, React.ReactNode][] => [
  ['members', item.members.join(', ')],
  ['on duty', onDuty(item) || 'nobody'],
  ['rounds', item.rounds],
];
