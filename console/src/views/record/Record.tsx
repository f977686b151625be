// What was done by whom, and who was refused.
import { useSearchParams } from 'react-router';
import { type AuditFilter, type AuditItem, audit } from '../../api/client';
import { Chips, Filter, Narrow } from '../../ui/filters';
import { LongList } from '../../ui/LongList';
import { Header } from '../../ui/parts';
import { principal, shown } from '../../ui/principal';
import { Needs, useMay } from '../../ui/rights';
import type { Look } from '../../ui/Table';
import { Time } from '../../ui/Time';
import { definitionPath } from '../definition/paths';

const ACTS = [
  'published',
  'withdrawn',
  'job.launched',
  'job.paused',
  'job.resumed',
  'job.cancelled',
  'job.resolved',
  'proposal.launched',
  'proposal.dismissed',
  'decision.taken',
  'answer.stranger',
  'answer.automatic',
  'answer.unclear',
  'answer.late',
  'answer.unreadable',
  'halted',
  'halt.lifted',
  'token.made',
  'token.revoked',
  'secret.set',
  'secret.removed',
  'secret.approved',
  'retention',
  'node.forgotten',
  'key.taken',
  'sign-in.refused',
  'request.refused',
  'sender.refused',
] as const;
const KNOWN = ['by', 'act', 'since'] as const;
/** Where what was done can be looked at. */
function place({ what, act }: AuditItem): string | undefined {
  const [kind = '', name = ''] = what.split(' ');
  if (kind === 'plan' && act.startsWith('plan.')) return `/plans/${name}`;
  if (kind === 'job' && /^\d+$/.test(name)) {
    return act === 'proposal.dismissed' ? `/proposals/${name}` : `/jobs/${name}`;
  }
  return act === 'published' || act === 'withdrawn' ? definitionPath(kind, name) : undefined;
}

const LOOK: Look<AuditItem> = {
  to: place,
  columns: [
    { head: 'When', width: '92px', quiet: true, cell: (a) => <Time at={a.at} />, by: (a) => a.at },
    {
      head: 'Who',
      width: 'minmax(0,0.7fr)',
      cell: (a) => <b>{principal(a.by)[1]}</b>,
      by: (a) => principal(a.by)[1],
    },
    {
      head: 'By a',
      width: '70px',
      quiet: true,
      cell: (a) => principal(a.by)[0],
      by: (a) => principal(a.by)[0],
    },
    { head: 'What was done', width: 'minmax(0,0.8fr)', cell: (a) => a.act, by: (a) => a.act },
    { head: 'With', width: 'minmax(0,1.1fr)', link: true, cell: (a) => a.what, by: (a) => a.what },
    {
      head: 'More',
      width: 'minmax(0,1.8fr)',
      quiet: true,
      cell: (a) => a.detail,
      by: (a) => a.detail,
    },
    {
      head: 'Times',
      width: '48px',
      right: true,
      quiet: true,
      cell: (a) => (a.times > 1 ? a.times : ''),
      by: (a) => a.times,
    },
  ],
  narrow: (a) => [
    <>
      <b key="by" className="min-w-0 flex-1 truncate">
        {shown(a.by)}
      </b>
      {a.act}
    </>,
    <>
      <Time key="at" at={a.at} />
      <span key="what" className="min-w-0 flex-1 truncate">
        {a.what} {a.detail}
      </span>
    </>,
  ],
};

export function Component() {
  const may = useMay('admin');
  const [params] = useSearchParams();
  const filter: AuditFilter = {};
  for (const key of KNOWN) {
    const value = params.get(key);
    if (value) filter[key] = value;
  }
  return (
    <>
      <Header
        title="Record"
        right={
          may && (
            <>
              <Filter name="act" label="What" options={ACTS} />
              <Narrow by={['by']} />
            </>
          )
        }
      >
        <span className="text-ink-2">what was done by whom, and who was refused</span>
      </Header>
      {may ? (
        <>
          <Chips
            known={KNOWN}
            chosen={['act']}
            shown={(name, value) => (name === 'by' ? `by ${value}` : undefined)}
          />
          <LongList
            of={{
              key: ['audit', filter],
              ask: (after) => audit(filter, after),
              handle: (item) => item.id,
            }}
            look={LOOK}
            label="What was done, newest first"
            what="act"
            none="Nothing like that was done."
          />
        </>
      ) : (
        <Needs least="admin">Seeing what was done by whom</Needs>
      )}
    </>
  );
}
