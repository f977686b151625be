// Why a rule matches or not: each clause with its truth and what it saw, then how it settled.
import { Link } from 'react-router';
import type { Why } from '../../api/client';
import { VerdictMark } from '../../ui/marks';
import { Tag } from '../../ui/parts';
import { Time } from '../../ui/Time';

const MARKS = {
  yes: ['✓', 'text-good', 'holds'],
  no: ['✗', 'text-bad', 'does not hold'],
  odd: ['?', 'text-warn', 'cannot be said'],
} as const;

export function Clauses({ why, missedOnly }: { why: Why; missedOnly?: boolean }) {
  const clauses = why.clauses.filter((c) => !missedOnly || c.holds !== true);
  return (
    <ul className="flex flex-col gap-1">
      {clauses.map((c, i) => {
        const [mark, tone, said] =
          MARKS[c.holds === true ? 'yes' : c.holds === false ? 'no' : 'odd'];
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: clauses keep their order
          <li key={i} className="grid grid-cols-[16px_76px_1fr] gap-x-2 text-[13px]">
            <b className={tone} role="img" aria-label={said}>
              {mark}
            </b>
            <span className="text-ink-3">{c.line}</span>
            <span className="min-w-0">
              <code className="break-words">{c.text}</code>
              <span className="block break-words text-ink-2">
                {c.saw
                  .map((s) => `${s.field} ${s.value == null ? 'is missing' : `= ${s.value}`}`)
                  .join(', ')}
              </span>
              {c.error && !c.error.startsWith('there is no field') && (
                <span className="block text-warn">{c.error}</span>
              )}
            </span>
          </li>
        );
      })}
    </ul>
  );
}

/** What was decided, or would be at this moment, and how the tally came to it. */
export function Settled({ why }: { why: Why }) {
  return (
    <>
      {why.verdict && (
        <p className="mt-2 text-[13px]">
          <VerdictMark verdict={why.verdict.verdict} />{' '}
          {!why.verdict.given && <Tag tone="warn">at this moment it would be</Tag>}
          <span className="block text-ink-2">{why.verdict.reason}</span>
        </p>
      )}
      {why.story.length > 1 && (
        <ol className="mt-2 border-line border-l pl-3 text-[13px]">
          {why.story.map((line) => (
            <li key={line.alert} className="grid gap-x-3 py-0.5 sm:grid-cols-[76px_108px_1fr]">
              <Time at={line.at} />
              <VerdictMark verdict={line.verdict} />
              <span className="text-ink-2">
                <Link
                  to={`/alerts/${line.alert}`}
                  className="font-semibold text-sea hover:underline"
                >
                  alert {line.alert}
                </Link>{' '}
                {line.reason}
              </span>
            </li>
          ))}
        </ol>
      )}
      {why.dispatches.map((d) => (
        <p key={d.runbook} className="mt-2 text-[13px]">
          <b className="font-semibold">{d.runbook}</b>{' '}
          {d.applies ? (
            <code className="break-all text-ink-2">{d.error ?? JSON.stringify(d.inputs)}</code>
          ) : (
            <span className="text-ink-3">does not apply: its `when` does not hold</span>
          )}
        </p>
      ))}
      {why.notes.map((note) => (
        <p key={note} className="mt-2 text-[13px] text-warn">
          {note}
        </p>
      ))}
    </>
  );
}
