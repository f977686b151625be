// One mute: what it covers, until when, why; and the way to lift it.
import { useQueryClient } from '@tanstack/react-query';
import { liftMute, type MuteItem } from '../../api/client';
import { Tag, type Tone } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';

const TONES: Record<MuteItem['state'], Tone> = {
  standing: 'warn',
  coming: 'sea',
  over: 'plain',
  lifted: 'plain',
};

/** Whatever shows what is muted, or what follows from it. */
export const AFFECTED = ['mutes', 'watch', 'alarms', 'alerts'];

export function Mute({ mute }: { mute: MuteItem }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const open = mute.state === 'standing' || mute.state === 'coming';
  return (
    <div className="flex flex-wrap items-start gap-x-3 gap-y-1 border-line border-t py-2 first-of-type:border-t-0">
      <Tag tone={TONES[mute.state]}>{mute.state}</Tag>
      <div className="min-w-0 flex-1">
        <p className="mono break-words font-semibold">{mute.text}</p>
        <p className="break-words">{mute.reason}</p>
        <p className="text-[13px] text-ink-2">
          {mute.state === 'coming' && (
            <>
              from <Exact at={mute.from} />{' '}
            </>
          )}
          {mute.lifted_at && mute.lifted_by ? (
            <>
              lifted <Exact at={mute.lifted_at} /> by {shown(mute.lifted_by)}
            </>
          ) : (
            <>
              until <Exact at={mute.until} />
            </>
          )}
          , by {shown(mute.by)}
        </p>
      </div>
      {may && open && (
        <Sure
          ask="Lift…"
          title={`Lift mute ${mute.id}?`}
          act="Lift it"
          onAct={async () => {
            await liftMute(mute.id);
            await Promise.all(
              AFFECTED.map((key) => queries.invalidateQueries({ queryKey: [key] })),
            );
          }}
        >
          <p>
            <code className="break-words">{mute.text}</code>: rules act again, also on what still
            stands.
          </p>
        </Sure>
      )}
    </div>
  );
}
