// Halts of some jobs: those that stand, and halting some, asked twice with what would stop.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { beginHalt, endHalt, type HaltCovers, type SelectiveHalt, watch } from '../../api/client';
import { GlobFields, globs } from '../../ui/GlobFields';
import { Button, Empty, Failed, Panel, Tag } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';
import { some } from '../../ui/words';
import { Reason } from '../guard/Reason';

const LINES: [keyof HaltCovers, string, string][] = [
  ['targets', 'Targets', 'host/quill-*, vm/quill-*'],
  ['runbooks', 'Runbooks', 'move-guest, plan/*'],
  ['rules', 'Rules', 'disk-*'],
];
/** Whatever shows which jobs are begun. */
const AFFECTED = ['halt', 'watch', 'nodes', 'jobs', 'job'];

/** Which jobs, in a line. */
export function covered(covers: HaltCovers): string {
  const lines = LINES.filter(([key]) => (covers[key] ?? []).length > 0);
  return lines
    .map(([key, name]) => `${name.toLowerCase()} ${(covers[key] ?? []).join(', ')}`)
    .join('; ');
}

function useAnew() {
  const queries = useQueryClient();
  return () => Promise.all(AFFECTED.map((key) => queries.invalidateQueries({ queryKey: [key] })));
}

export function Halts() {
  const may = useMay('responder');
  const seen = useQuery({ queryKey: ['watch', '1h'], queryFn: () => watch('1h') });
  const halts = seen.data?.halts ?? [];
  return (
    <Panel title="Halts of some jobs" aside={halts.length || undefined}>
      {halts.map((halt) => (
        <Halt key={halt.id} halt={halt} may={may} />
      ))}
      {seen.data && halts.length === 0 && <Empty>Jobs of all kinds are begun.</Empty>}
    </Panel>
  );
}

function Halt({ halt, may }: { halt: SelectiveHalt; may: boolean }) {
  const anew = useAnew();
  return (
    <div className="flex flex-wrap items-start gap-x-3 gap-y-1 border-line border-t py-2 first-of-type:border-t-0">
      <Tag tone="bad">halted</Tag>
      <div className="min-w-0 flex-1">
        <p className="mono break-words font-semibold">{covered(halt.covers)}</p>
        <p className="break-words">{halt.reason}</p>
        <p className="text-[13px] text-ink-2">
          {halt.running ? 'also those under way, ' : ''}since <Exact at={halt.since} />, by{' '}
          {shown(halt.by)}
        </p>
      </div>
      {may && (
        <Sure
          ask="Lift…"
          title={`Lift halt ${halt.id}?`}
          act="Lift it"
          onAct={async () => {
            await endHalt(halt.id);
            await anew();
          }}
        >
          <p>
            These jobs are begun again{halt.running ? ', and those that it paused go on' : ''}, as
            far as no other halt concerns them.
          </p>
        </Sure>
      )}
    </div>
  );
}

export function HaltSome() {
  const anew = useAnew();
  const [typed, setTyped] = useState<Partial<Record<keyof HaltCovers, string>>>({});
  const [why, setWhy] = useState('');
  const [running, setRunning] = useState(false);
  const covers = () => {
    const { targets, runbooks, rules } = typed;
    return { targets: globs(targets), runbooks: globs(runbooks), rules: globs(rules) };
  };
  const look = useMutation({ mutationFn: () => beginHalt(covers(), why.trim(), running, true) });
  const begin = useMutation({
    mutationFn: () => beginHalt(covers(), why.trim(), running, false),
    onSuccess: async () => {
      setTyped({});
      setWhy('');
      setRunning(false);
      look.reset();
      await anew();
    },
  });
  // What was looked at is not what is typed any more.
  const type = (key: keyof HaltCovers, text: string) => {
    setTyped({ ...typed, [key]: text });
    look.reset();
    begin.reset();
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    look.mutate();
  };
  const empty = Object.values(covers()).every((globs) => globs.length === 0);
  const found = look.data?.concerns;
  return (
    <form onSubmit={submit} className="flex flex-col gap-2">
      <GlobFields lines={LINES} typed={typed} onType={type} />
      <p className="text-[13px] text-ink-3">
        Names and globs. Every line that is filled in must hold.
      </p>
      <label className="flex items-baseline gap-2 text-[13px]">
        <input
          type="checkbox"
          checked={running}
          onChange={(event) => setRunning(event.target.checked)}
        />
        <span>Pause what is under way as well</span>
      </label>
      <Reason value={why} onType={setWhy} />
      {look.error && <Failed error={look.error} />}
      {begin.error && <Failed error={begin.error} />}
      {!found && (
        <Button type="submit" disabled={empty || !why.trim() || look.isPending}>
          Halt these jobs…
        </Button>
      )}
      {found && (
        <>
          <p role="status" className="rounded-md bg-warn-soft px-3 py-1.5 text-warn">
            {`${some(found.queued, 'job')} that wait for their turn, ${found.waiting} that wait for something and ${found.running} that run are concerned now.`}
          </p>
          <div className="flex justify-end gap-2">
            <Button onClick={() => look.reset()}>Not yet</Button>
            <Button look="go" disabled={begin.isPending} onClick={() => begin.mutate()}>
              Halt them
            </Button>
          </div>
        </>
      )}
    </form>
  );
}
