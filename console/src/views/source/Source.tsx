// One source: what came from it, what could not be read and is kept until it can, its text, its versions.
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link, useParams } from 'react-router';
import { type DefinitionDetail, definition, type PollState } from '../../api/client';
import { Empty, Facts, Lost, Panel } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Exact, Time } from '../../ui/Time';
import { some } from '../../ui/words';
import { EditingHeader, EditorPanel, Publishing, useEditing } from '../definition/Editing';
import { Versions } from '../definition/Versions';
import { Kept } from './Kept';
import { Listeners } from './Listeners';
import { Mapping } from './Mapping';
import { SenderLines } from './SenderLines';
import { Shapes } from './Shapes';
import { Try } from './Try';

const BLANK = `source: name-of-the-source
summary: Where the alerts come from
intake:
  webhook:
    credential: { bearer: "\${secret('name-of-a-secret')}" }
read:
  kind: body.kind
  severity: body.severity
  resource: body.resource
`;

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['definitions', 'source', name],
    queryFn: () => definition('source', name),
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  return <Page key={name} found={found.data} start={found.data.text} />;
}

/** A source that does not exist yet. */
export function Start() {
  return <Page start={BLANK} />;
}

function Page({ found, start }: { found?: DefinitionDetail; start: string }) {
  const editing = useEditing('source', found, start);
  const kept = (found?.item.used.unreadable ?? 0) + (found?.item.used.caught ?? 0);
  return (
    <>
      <EditingHeader editing={editing} />
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <EditorPanel editing={editing} title="Source" />
          {found && kept > 0 && (
            <Mapping source={found.item.name} text={editing.text} onTake={editing.setText} />
          )}
          {found && <Shapes source={found.item.name} />}
          {found && <Kept source={found.item.name} all={kept} />}
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          {found && <Came found={found} />}
          {found && <SenderLines lines={found.sender_lines ?? []} />}
          {found && <Try source={found.item.name} />}
          {found && <Listeners of={found.listeners ?? []} />}
          {found?.read_by_default && (
            <Panel title="Read by the lines of its format">
              <pre className="mono whitespace-pre-wrap break-words text-[12.5px]">
                {found.read_by_default}
              </pre>
            </Panel>
          )}
          {found && <Versions kind="source" name={found.item.name} onBringBack={editing.setText} />}
        </div>
      </div>
      <Publishing editing={editing} />
    </>
  );
}

/** How its messages are fetched, and how far. */
function fetched(poll: PollState): [string, ReactNode][] {
  return [
    ['fetched by', `${poll.operation}, every ${poll.every}`],
    [
      'last look',
      poll.looked_at ? (
        <span key="looked">
          <Time at={poll.looked_at} age /> ago
        </span>
      ) : (
        'none yet'
      ),
    ],
    ...(poll.cursor
      ? ([
          [
            'remembered',
            <span key="cursor" className="mono break-all">
              {poll.cursor}
            </span>,
          ],
        ] as [string, ReactNode][])
      : []),
    ...(poll.failure
      ? ([
          [
            'failing',
            <span key="failure" className="break-words font-semibold text-bad">
              {poll.failure}
            </span>,
          ],
        ] as [string, ReactNode][])
      : []),
  ];
}

function Came({ found }: { found: DefinitionDetail }) {
  const { item, used_by, next_due, poll, heartbeats } = found;
  const { used } = item;
  return (
    <Panel title="What came">
      <Facts
        rows={[
          [
            'alerts',
            <Link
              key="alerts"
              to={`/alerts?source=${item.name}`}
              className="font-semibold text-sea hover:underline"
            >
              {some(used.alerts, 'alert')} recorded
            </Link>,
          ],
          [
            'last',
            used.last_at ? (
              <span key="last">
                <Time at={used.last_at} age /> ago
              </span>
            ) : (
              'nothing yet'
            ),
          ],
          ...(poll ? fetched(poll) : []),
          ...(heartbeats ?? []).map((sender): [string, ReactNode] => [
            sender.name,
            <span key={sender.name} className={sender.missing ? 'font-semibold text-bad' : ''}>
              {sender.missing ? 'missing' : 'alive'}, last heard <Time at={sender.last_at} age />{' '}
              ago
            </span>,
          ]),
          ...(next_due
            ? ([['next due', <Exact key="next" at={next_due} />]] as [string, ReactNode][])
            : []),
          [
            'conflicts',
            `${some(used.conflicts ?? 0, 'alert')} whose id came before with other content`,
          ],
          [
            'refused',
            `${used.refused ?? 0} within a day, from senders who did not say who they are`,
          ],
          ...((used.over_limit ?? 0) > 0
            ? ([
                [
                  'over its limit',
                  `${some(used.over_limit ?? 0, 'delivery', 'deliveries')} within a day that were refused or had to wait`,
                ],
              ] as [string, ReactNode][])
            : []),
          [
            'published',
            <span key="p">
              <Exact at={item.published_at} /> by {shown(item.published_by)}
            </span>,
          ],
          [
            'listened to by',
            (used_by?.length ?? 0) === 0
              ? 'no rule by its name'
              : used_by?.map((user) => (
                  <Link
                    key={user.name}
                    to={`/${user.kind}s/${user.name}`}
                    className="block text-sea hover:underline"
                  >
                    {user.name}
                  </Link>
                )),
          ],
        ]}
      />
    </Panel>
  );
}
