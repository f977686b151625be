// Says a mute: what it covers, for how long, why.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { beginMute, type MuteCovers } from '../../api/client';
import { Button, Failed } from '../../ui/parts';
import { AFFECTED } from './Mute';

const PERIODS = ['30m', '1h', '2h', '4h', '8h', '1d', '3d', '7d'];
/** The lines that are asked for where nothing is given, and what is said of each. */
const LINES = [
  ['resource', 'Resources', 'vm/quill-*'],
  ['kinds', 'Kinds', 'disk.*'],
  ['sources', 'Sources', ''],
  ['severity', 'Severities', '..minor'],
  ['rules', 'Rules', ''],
  ['runbooks', 'Runbooks', ''],
] as const;
type Line = (typeof LINES)[number][0];
const FIELD = 'mt-0.5 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink';

/** Names and globs of a line, as they are typed: with commas or spaces between them. */
const named = (typed: string) => typed.split(/[\s,]+/).filter((text) => text !== '');

/** With `covers` it is said what is muted, and only for how long and why is asked. */
export function MuteForm({ covers }: { covers?: MuteCovers }) {
  const queries = useQueryClient();
  const [typed, setTyped] = useState<Partial<Record<Line, string>>>({});
  const [period, setPeriod] = useState('1h');
  const [reason, setReason] = useState('');
  const begin = useMutation({
    mutationFn: () => {
      const lines = LINES.map(([line]) => [line, named(typed[line] ?? '')] as const);
      const written = Object.fromEntries(lines.filter(([, texts]) => texts.length > 0));
      return beginMute({ covers: covers ?? written, for: period, reason: reason.trim() });
    },
    onSuccess: async () => {
      setTyped({});
      setReason('');
      await Promise.all(AFFECTED.map((key) => queries.invalidateQueries({ queryKey: [key] })));
    },
  });
  const says = covers || Object.values(typed).some((text) => named(text).length > 0);
  return (
    <form
      className="flex flex-col gap-2 text-[13px]"
      onSubmit={(event) => {
        event.preventDefault();
        begin.mutate();
      }}
    >
      {!covers &&
        LINES.map(([line, label, example]) => (
          <label key={line} className="block text-ink-2">
            {label}
            <input
              id={`mute-${line}`}
              className={`${FIELD} mono`}
              placeholder={example}
              value={typed[line] ?? ''}
              onChange={(event) => setTyped({ ...typed, [line]: event.target.value })}
            />
          </label>
        ))}
      <div className="flex items-end gap-2">
        <label className="block text-ink-2">
          For
          <select
            className={FIELD}
            value={period}
            onChange={(event) => setPeriod(event.target.value)}
          >
            {PERIODS.map((text) => (
              <option key={text}>{text}</option>
            ))}
          </select>
        </label>
        <label className="block min-w-0 flex-1 text-ink-2">
          Why
          <input
            id="mute-reason"
            className={FIELD}
            maxLength={300}
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
        </label>
        <Button type="submit" look="go" disabled={!says || !reason.trim() || begin.isPending}>
          Mute
        </Button>
      </div>
      {begin.error && <Failed error={begin.error} />}
      {begin.data && (
        <p role="status" className="text-ink-2">
          Muted.{' '}
          {begin.data.jobs.length > 0 && (
            <>
              These jobs go on:{' '}
              {begin.data.jobs.map((job) => (
                <Link key={job} to={`/jobs/${job}`} className="mr-1.5 text-sea underline">
                  {job}
                </Link>
              ))}
            </>
          )}
        </p>
      )}
      <p className="text-ink-3">
        No rule acts on it by itself. Alerts are kept; what still stands when it is over is acted on
        then.
      </p>
    </form>
  );
}
