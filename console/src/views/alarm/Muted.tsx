// What keeps rules from acting on an alarm, and the way to say so.
import type { AlarmDetail } from '../../api/client';
import { Panel } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Mute } from '../safety/Mute';
import { MuteForm } from '../safety/MuteForm';

export function Muted({ found: { alarm, mutes } }: { found: AlarmDetail }) {
  const may = useMay('responder');
  const standing = mutes ?? [];
  if (standing.length === 0 && !may) return null;
  return (
    <Panel title={standing.length > 0 ? 'Muted' : 'Mute it'}>
      {standing.map((mute) => (
        <Mute key={mute.id} mute={mute} />
      ))}
      {standing.length === 0 && (
        <MuteForm covers={{ resource: [alarm.resource], kinds: [alarm.kind] }} />
      )}
    </Panel>
  );
}
