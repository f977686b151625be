// Where a source is listened for: how each listener stands, and what came by it since it was begun.
import type { DefinitionDetail } from '../../api/client';
import { Panel, Tag, type Tone } from '../../ui/parts';
import { Time } from '../../ui/Time';
import { some } from '../../ui/words';

type Listener = NonNullable<DefinitionDetail['listeners']>[number];

const STATES: Record<Listener['state'], Tone> = {
  starting: 'plain',
  listening: 'good',
  standby: 'plain',
  failed: 'bad',
};

const counts = (l: Listener) =>
  [
    `${some(l.taken, 'message')} taken`,
    l.unreadable > 0 && `${l.unreadable} unreadable`,
    l.dropped > 0 && `${l.dropped} lost`,
    l.refused > 0 && `${l.refused} refused`,
    l.open > 0 && some(l.open, 'open connection'),
    l.waiting != null && `${l.waiting} waiting in the queue`,
  ].filter(Boolean);

export function Listeners({ of }: { of: Listener[] }) {
  if (of.length === 0) return null;
  return (
    <Panel title="Listeners" aside={of.length}>
      {of.map((l) => (
        <div
          key={`${l.node} ${l.transport} ${l.address}`}
          className="border-line border-t py-1.5 text-[13px] first-of-type:border-t-0"
        >
          <span className="flex flex-wrap items-center gap-2">
            <b className="mono">
              {l.transport} {l.address}
            </b>
            <Tag tone={STATES[l.state]}>{l.state}</Tag>
            <span className="text-ink-2">
              for <Time at={l.since} age /> at {l.node}
            </span>
          </span>
          {l.reason && <span className="block text-bad">{l.reason}; it is tried again</span>}
          <span className="block text-ink-2">{counts(l).join(', ')}</span>
          {l.last_refusal && (
            <span className="block text-ink-2">refused last: {l.last_refusal}</span>
          )}
        </div>
      ))}
    </Panel>
  );
}
