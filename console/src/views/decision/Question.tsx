// A question of a job's: what is asked, what may be chosen, and one click that decides.
import { type FormEvent, type ReactNode, useId, useState } from 'react';
import type { DecisionItem } from '../../api/client';
import { Button, Facts, Failed } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Exact, Time } from '../../ui/Time';

type Props = {
  decision: DecisionItem;
  /** Decides; none where the one who looks may not. */
  onDecide?: (choice: string, remark: string) => void;
  busy?: boolean;
  error?: Error | null;
  /** What else must be said before one can decide. */
  before?: ReactNode;
  /** Whether that is said. */
  ready?: boolean;
};

export function Question({ decision, onDecide, busy, error, before, ready = true }: Props) {
  const [choice, setChoice] = useState('');
  const [remark, setRemark] = useState('');
  const id = useId();
  const silent = decision.choices.find((c) => c.name === decision.unanswered);
  const decide = (event: FormEvent) => {
    event.preventDefault();
    if (choice) onDecide?.(choice, remark.trim());
  };
  return (
    <form onSubmit={decide} className="flex flex-col gap-2.5">
      <p className="whitespace-pre-wrap break-words font-semibold text-[15px]">{decision.text}</p>
      <fieldset className="flex flex-col gap-1.5" disabled={!onDecide}>
        <legend className="sr-only">What may be chosen</legend>
        {decision.choices.map((c) => (
          <label
            key={c.name}
            className="flex cursor-pointer items-start gap-2.5 rounded-md border border-line px-3 py-2 hover:bg-sunk has-checked:border-sea has-checked:bg-sea-soft"
          >
            <input
              type="radio"
              name={`choice-${id}`}
              className="mt-1"
              value={c.name}
              checked={choice === c.name}
              onChange={() => setChoice(c.name)}
            />
            <span className="min-w-0 break-words">
              {c.words} <code className="text-ink-3">{c.name}</code>
            </span>
          </label>
        ))}
      </fieldset>
      {onDecide && (
        <div className="flex flex-wrap items-end gap-2">
          {before}
          <label className="min-w-56 flex-1 text-[13px] text-ink-2">
            Remark, for those who read it later
            <input
              value={remark}
              onChange={(event) => setRemark(event.target.value)}
              maxLength={1000}
              className="mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
            />
          </label>
          <Button type="submit" look="go" disabled={!choice || !ready || busy}>
            Decide
          </Button>
        </div>
      )}
      <p className="text-[13px] text-ink-2">
        {new Date(decision.until) > new Date() ? (
          <>
            It stands until <Exact at={decision.until} />.{' '}
          </>
        ) : (
          'Its time is over. '
        )}
        {silent ? `If nobody decides: ${silent.words}` : 'If nobody decides, the step fails.'}
      </p>
      {error && <Failed error={error} />}
    </form>
  );
}

/** What became of a question. */
export function Answer({ decision }: { decision: DecisionItem }) {
  const chosen = decision.choices.find((c) => c.name === decision.choice);
  const rows: [string, ReactNode][] = [['asked', <Time key="asked" at={decision.asked_at} />]];
  if (decision.state === 'taken') {
    rows.push(
      ['decided', chosen?.words ?? decision.choice],
      [
        'by',
        decision.by &&
          (decision.how === 'link' || decision.how === 'mail'
            ? shown(decision.by)
            : `${shown(decision.by)} (${decision.how})`),
      ],
    );
  }
  if (decision.state === 'silent') rows.push(['decided', 'nobody did in time']);
  if (decision.state === 'withdrawn') rows.push(['decided', 'not asked any more']);
  if (decision.decided_at) rows.push(['at', <Time key="at" at={decision.decided_at} />]);
  if (decision.remark) rows.push(['remark', decision.remark]);
  return (
    <>
      <p className="whitespace-pre-wrap break-words pb-2">{decision.text}</p>
      <Facts rows={rows} />
    </>
  );
}
