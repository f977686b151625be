// What people did about an alarm, and the way to do it: acknowledge it, say something, clear it by hand.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { type AlarmDetail, actOnAlarm } from '../../api/client';
import { Button, Failed, Panel } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Time } from '../../ui/Time';

type Sent = NonNullable<NonNullable<AlarmDetail['acts']>[number]['at_sender']>;

const SENT: Record<Sent['state'], string> = {
  waiting: 'not yet done at the sender',
  'under-way': 'being done at the sender',
  done: 'done at the sender as well',
  failed: 'not done at the sender',
  unknown: 'perhaps done at the sender',
};

function AtSender({ of }: { of: Sent }) {
  const bad = of.state === 'failed' || of.state === 'unknown';
  return (
    <p className={`break-words text-[13px] ${bad ? 'text-bad' : 'text-ink-3'}`}>
      {SENT[of.state]}
      {of.reason && `: ${of.reason}`}
      {of.next_at && of.tries > 0 && (
        <>
          ; tried again <Time at={of.next_at} />
        </>
      )}
    </p>
  );
}

export function Acts({ found: { alarm, acts } }: { found: AlarmDetail }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const [text, setText] = useState('');
  const act = useMutation({
    mutationFn: (what: 'acknowledged' | 'noted' | 'cleared') =>
      actOnAlarm(alarm.id, what, text.trim()),
    onSuccess: async () => {
      setText('');
      await Promise.all(
        ['alarms', 'watch', 'alerts'].map((key) => queries.invalidateQueries({ queryKey: [key] })),
      );
    },
  });
  const all = acts ?? [];
  if (all.length === 0 && !may) return null;
  const silent = text.trim() === '' || act.isPending;
  return (
    <Panel title="What people did" aside={all.length || undefined}>
      {all.map((one) => (
        <div
          key={`${one.at} ${one.act}`}
          className="border-line border-t py-1.5 first-of-type:border-t-0"
        >
          <p className="flex justify-between gap-2 text-[13px]">
            <span>
              <b className="font-semibold">{shown(one.by)}</b> {one.act}
            </span>
            <span className="text-ink-3">
              <Time at={one.at} />
            </span>
          </p>
          {one.text && <p className="break-words text-[13px] text-ink-2">{one.text}</p>}
          {one.at_sender && <AtSender of={one.at_sender} />}
        </div>
      ))}
      {may && (
        <div className="flex flex-col gap-2 pt-2 text-[13px]">
          <textarea
            id="said"
            aria-label="What there is to say"
            placeholder="What there is to say"
            rows={2}
            maxLength={1000}
            className="block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
          <div className="flex flex-wrap gap-2">
            {alarm.state === 'raised' && (
              <Button disabled={act.isPending} onClick={() => act.mutate('acknowledged')}>
                I see to it
              </Button>
            )}
            <Button disabled={silent} onClick={() => act.mutate('noted')}>
              Note it
            </Button>
            {alarm.state === 'raised' && (
              <Button disabled={silent} onClick={() => act.mutate('cleared')}>
                Clear it
              </Button>
            )}
          </div>
          {act.error && <Failed error={act.error} />}
        </div>
      )}
    </Panel>
  );
}
