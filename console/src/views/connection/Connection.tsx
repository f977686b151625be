// One connection: a test, what it offers and a try of each by hand, what it needs, and its last calls.

import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { Link, useParams } from 'react-router';
import {
  type CallItem,
  type ConnectionDetail,
  calls,
  connection,
  type Operation,
  testConnection,
} from '../../api/client';
import { Button, Empty, Facts, Failed, Header, Lost, Panel, Tag } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Needs, useMay } from '../../ui/rights';
import { type Look, Table } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { some } from '../../ui/words';
import { Versions } from '../definition/Versions';
import { Withdraw } from '../definition/Withdraw';
import { Ended, millis, Standing } from './Standing';

const Try = lazy(() => import('./Try'));

const whom = (c: CallItem) => (c.job ? `job ${c.job} ${c.step}` : c.by && shown(c.by));

const LOOK: Look<CallItem> = {
  to: (c) => (c.job ? `/jobs/${c.job}` : undefined),
  columns: [
    { head: 'When', width: '80px', quiet: true, cell: (c) => <Time at={c.at} /> },
    { head: 'Operation', width: 'minmax(0,1fr)', link: true, cell: (c) => <b>{c.operation}</b> },
    { head: 'For', width: 'minmax(0,1fr)', quiet: true, cell: whom },
    { head: 'Took', width: '64px', right: true, quiet: true, cell: (c) => millis(c.millis) },
    { head: 'Ended', width: '84px', cell: (c) => <Ended state={c.state} /> },
    { head: 'What went wrong', width: 'minmax(0,1.6fr)', quiet: true, cell: (c) => c.message },
  ],
  narrow: (c) => [
    <>
      <b key="operation" className="min-w-0 flex-1 truncate">
        {c.operation}
      </b>
      <Ended key="state" state={c.state} />
    </>,
    <>
      <Time key="at" at={c.at} />
      <span key="for" className="min-w-0 flex-1 truncate">
        {c.message ?? whom(c)}
      </span>
      <span key="took">{millis(c.millis)}</span>
    </>,
  ],
};

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({ queryKey: ['connections', name], queryFn: () => connection(name) });
  const last = useQuery({ queryKey: ['connections', name, 'calls'], queryFn: () => calls(name) });
  const [trying, setTrying] = useState<string>();
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const { item, operations } = found.data;
  const tried = operations.find((o) => o.name === trying);
  const items = last.data?.items ?? [];
  return (
    <>
      <Header
        title={item.name}
        right={
          <>
            <Withdraw kind="connection" name={item.name} to="/connections" />
            <Test name={item.name} />
          </>
        }
      >
        <Standing of={item} />
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      {item.trouble && (
        <p className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">{item.trouble}</p>
      )}
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="What it offers" aside={some(operations.length, 'operation')}>
            {operations.length === 0 && <Empty>Its connector is not published.</Empty>}
            <ul className="flex flex-col">
              {operations.map((o) => (
                <Offered
                  key={o.name}
                  of={o}
                  open={o.name === trying}
                  onTry={() => setTrying(o.name)}
                />
              ))}
            </ul>
          </Panel>
          <Panel title="Last calls" aside="newest first">
            {last.error && <Failed error={last.error} />}
            {last.data && items.length === 0 && <Empty>It was not called yet.</Empty>}
            {items.length > 0 && (
              <Table items={items} id={(c) => c.id} look={LOOK} label="Last calls" within />
            )}
          </Panel>
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          {tried && (
            <Suspense fallback={<Empty>Opening</Empty>}>
              <Try
                key={tried.name}
                via={item.name}
                address={item.address}
                operation={tried}
                onClose={() => setTrying(undefined)}
              />
            </Suspense>
          )}
          <Panel title="How it stands">
            <Facts rows={facts(found.data)} />
          </Panel>
          <Versions kind="connection" name={item.name} />
        </div>
      </div>
    </>
  );
}

function facts({
  item,
  credential,
  secrets,
  used_by,
  at_once,
  rate,
  test,
  hosts,
  host_keys,
  jump,
  jump_for,
  also,
  also_for,
  trusted,
  runners,
  runner_secrets,
  pulse,
}: ConnectionDetail): [string, React.ReactNode][] {
  const all: [string, React.ReactNode][] = [
    ['address', <code key="a">{item.address ?? 'not known'}</code>],
    ['connector', <code key="c">{item.connector}</code>],
    ['credential', credential ? <code key="k">{credential}</code> : 'none'],
    ...secrets.map((s): [string, React.ReactNode] => [
      'secret',
      <span key={s.name} className={s.ready ? '' : 'text-bad'}>
        <code>{s.name}</code>
        {!s.ready && ', which it cannot open'}
      </span>,
    ]),
    ['tested by', test ? <code key="t">{test}</code> : 'a look whether it answers'],
    ['last hour', `${some(item.calls, 'call')}, ${item.failed} not well`],
  ];
  if (item.median_ms != null)
    all.push(['takes', `${millis(item.median_ms)}, half of the calls less`]);
  if (hosts.length > 0) all.push(['machines', <code key="h">{hosts.join(', ')}</code>]);
  if (jump)
    all.push([
      'through',
      <Link key="j" to={`/connections/${jump}`} className="text-sea hover:underline">
        {jump}
      </Link>,
    ]);
  if (runners)
    all.push([
      'runners',
      <code key="r">
        {Object.entries(runners)
          .map(([name, value]) => `${name}=${value}`)
          .join(', ')}
      </code>,
    ]);
  for (const secret of runner_secrets ?? [])
    all.push([
      'secret',
      <span key={secret}>
        <code>{secret}</code>, which its runners keep
      </span>,
    ]);
  for (const [head, names] of [
    ['jump host of', jump_for],
    ['also by', also],
    ['also used by', also_for],
  ] as const)
    if (names && names.length > 0)
      all.push([
        head,
        names.map((name) => (
          <Link key={name} to={`/connections/${name}`} className="block text-sea hover:underline">
            {name}
          </Link>
        )),
      ]);
  for (const key of host_keys) all.push(['host key', <code key={key}>{key}</code>]);
  for (const { machine, algorithm, fingerprint, by, at } of trusted)
    all.push([
      'trusted',
      <span key={machine} title={`${algorithm} ${fingerprint}`}>
        <code>{machine}</code> by {shown(by)} <Time at={at} />
      </span>,
    ]);
  if (at_once) all.push(['at once', `${at_once} calls at most`]);
  if (rate) all.push(['rate', rate]);
  if (pulse) {
    const { operation, every, failure, held_by } = pulse;
    const trouble = failure ?? held_by?.[0];
    all.push([
      'pulse',
      <span key="pulse">
        <code>{operation}</code> every {every}
        {trouble && (
          <span className="block text-bad">
            {failure ? 'fails' : 'not sent'}: {trouble}
          </span>
        )}
      </span>,
    ]);
  }
  all.push([
    'called by',
    used_by.length === 0
      ? 'no runbook'
      : used_by.map((name) => (
          <Link key={name} to={`/runbooks/${name}`} className="block text-sea hover:underline">
            {name}
          </Link>
        )),
  ]);
  return all;
}

function Test({ name }: { name: string }) {
  const queries = useQueryClient();
  const may = useMay('responder');
  const test = useMutation({
    mutationFn: () => testConnection(name),
    onSettled: () => queries.invalidateQueries({ queryKey: ['connections'] }),
  });
  if (!may) return <Needs least="responder">Testing</Needs>;
  return (
    <>
      <span role="status" className="min-w-0 max-w-[46ch] truncate text-[13px]">
        {test.error && <span className="text-bad">{test.error.message}</span>}
        {test.data && (
          <>
            <Ended state={test.data.state} /> in {millis(test.data.millis)}
            {test.data.state !== 'done' && `: ${test.data.message}`}
          </>
        )}
      </span>
      <Button look="go" onClick={() => test.mutate()} disabled={test.isPending}>
        {test.isPending ? 'Testing' : 'Test'}
      </Button>
    </>
  );
}

/** What doing it twice means. */
const TWICE: Record<string, string> = {
  safe: 'may be repeated',
  keyed: 'repeated by its key',
  never: 'done once',
  probed: 'done once, probed',
};

function Offered({ of, open, onTry }: { of: Operation; open: boolean; onTry: () => void }) {
  const names = Object.entries(of.takes as Record<string, object>);
  return (
    <li className="flex flex-wrap items-baseline gap-x-2 gap-y-0.5 border-line border-t py-1.5 first:border-t-0">
      <b className="flex-1 break-words sm:flex-none">{of.name}</b>
      <span className="order-1 min-w-0 basis-full text-ink-2 sm:order-none sm:flex-1 sm:basis-0">
        {of.summary}
      </span>
      <Tag tone={of.repeat === 'never' ? 'warn' : 'plain'}>{TWICE[of.repeat] ?? of.repeat}</Tag>
      <Button onClick={onTry} disabled={open} aria-label={`Try ${of.name}`}>
        Try
      </Button>
      <span className="order-2 basis-full text-[13px] text-ink-3">
        <code className="break-words">{of.request}</code>
        {of.follows && <> then {of.follows}</>}
        {names.length > 0 && (
          <>
            {' takes '}
            <code className="break-words">
              {names.map(([name, schema]) => ('default' in schema ? `[${name}]` : name)).join(' ')}
            </code>
          </>
        )}
      </span>
    </li>
  );
}
