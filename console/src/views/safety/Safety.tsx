// What holds us back: what is muted, halts, guards and trials.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { mutes } from '../../api/client';
import { Button, Empty, Header, Panel, Unanswered } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Guards } from '../guard/Guards';
import { Halt } from './Halt';
import { HaltSome, Halts } from './Halts';
import { Mute } from './Mute';
import { MuteForm } from './MuteForm';
import { Trials } from './Trials';

/** How often mutes are asked anew: they begin and end by themselves. */
const PACE = 15_000;

export function Component() {
  const may = useMay('responder');
  const [all, setAll] = useState(false);
  const found = useQuery({
    queryKey: ['mutes', all],
    queryFn: () => mutes(all),
    refetchInterval: PACE,
  });
  return (
    <>
      <Header title="Safety" right={<Halt />} />
      <div className="grid gap-3.5 lg:grid-cols-[1fr_340px]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel
            title="Mutes"
            aside={
              <Button look="quiet" className="-my-1 -mr-3" onClick={() => setAll(!all)}>
                {all ? 'Those that stand or come' : 'All, the newest first'}
              </Button>
            }
          >
            <Unanswered question={found} />
            {found.data?.items.map((mute) => (
              <Mute key={mute.id} mute={mute} />
            ))}
            {found.data?.items.length === 0 && <Empty>Nothing is muted.</Empty>}
            {found.data?.next && (
              <p className="pt-2 text-[13px] text-ink-2">
                Older ones: <code>arvok mute list --all</code>
              </p>
            )}
          </Panel>
          <Halts />
          <Guards />
          <Trials may={may} />
        </div>
        {may && (
          <div className="flex min-w-0 flex-col gap-3.5">
            <Panel title="Mute">
              <MuteForm />
            </Panel>
            <Panel title="Halt some jobs">
              <HaltSome />
            </Panel>
          </div>
        )}
      </div>
    </>
  );
}
