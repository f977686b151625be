// Persons and teams whom messages reach, and who of a team is on duty.
import { useQuery } from '@tanstack/react-query';
import { type Contact, contacts } from '../../api/client';
import { Search, useFound } from '../../ui/filters';
import { Empty, Header, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { first, onDuty } from './words';

const who = (c: Contact) => (c.members.length > 0 ? c.members.join(', ') : c.summary);

const LOOK: Look<Contact> = {
  to: (c) => `/contacts/${c.name}`,
  columns: [
    { head: 'Name', width: 'minmax(0,0.8fr)', cell: (c) => <b>{c.name}</b>, by: (c) => c.name },
    { head: 'Kind', width: '72px', cell: (c) => (c.members.length > 0 ? 'team' : 'person') },
    { head: 'Who', width: 'minmax(0,1.2fr)', quiet: true, cell: who },
    { head: 'On duty', width: 'minmax(0,0.8fr)', cell: onDuty },
    { head: 'First way now', width: 'minmax(0,1.8fr)', mono: true, quiet: true, cell: first },
  ],
  narrow: (c) => [
    <>
      <b key="name" className="min-w-0 flex-1 truncate">
        {c.name}
      </b>
      <span key="duty">{onDuty(c)}</span>
    </>,
    <span key="first" className="min-w-0 flex-1 truncate">
      {first(c)}
    </span>,
  ],
};

export function Component() {
  const found = useQuery({ queryKey: ['contacts'], queryFn: contacts, refetchInterval: 60_000 });
  const all = found.data?.items ?? [];
  const items = useFound(all, (c) => `${c.name} ${c.summary ?? ''} ${c.members.join(' ')}`);
  return (
    <>
      <Header title="Contacts" right={<Search label="Search contacts" />}>
        {found.data && <span className="text-ink-2">{all.length} published</span>}
      </Header>
      <Unanswered question={found} />
      {all.length > 0 && items.length === 0 && <Empty>None is like that.</Empty>}
      {found.data && all.length === 0 && (
        <Empty>
          None is published. A <code>contact:</code> document is a person or a team whom questions
          and messages of runbooks reach.
        </Empty>
      )}
      {items.length > 0 && <Table items={items} id={(c) => c.name} look={LOOK} label="Contacts" />}
    </>
  );
}
