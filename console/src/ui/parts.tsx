// The small parts that every view is made of.
import clsx from 'clsx';
import { type ButtonHTMLAttributes, type ReactNode, useEffect, useRef } from 'react';
import { type JobItem, Refused } from '../api/client';
import { Copy } from './Copy';

const BUTTONS = {
  plain: 'border-line bg-panel text-ink hover:bg-sunk',
  go: 'border-sea bg-sea text-sea-ink hover:opacity-90',
  quiet: 'border-transparent text-sea hover:bg-sunk',
};

type ButtonProps = ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof BUTTONS };

export function Button({ look = 'plain', className, ...rest }: ButtonProps) {
  return (
    <button
      type="button"
      className={clsx(
        'rounded-md border px-3 py-1 font-semibold text-[13px] disabled:opacity-50',
        BUTTONS[look],
        className,
      )}
      {...rest}
    />
  );
}

type PanelProps = { title?: ReactNode; aside?: ReactNode; children: ReactNode; className?: string };

export function Panel({ title, aside, children, className }: PanelProps) {
  return (
    <section
      className={clsx('min-w-0 rounded-lg border border-line bg-panel px-3.5 py-3', className)}
    >
      {title && (
        <h2 className="mb-2 flex justify-between gap-3 font-semibold text-[13px] text-ink-2">
          {title}
          <span className="font-normal text-ink-3">{aside}</span>
        </h2>
      )}
      {children}
    </section>
  );
}

export const TONES = {
  plain: 'bg-sunk text-ink-2',
  sea: 'bg-sea-soft text-sea',
  good: 'bg-good-soft text-good',
  warn: 'bg-warn-soft text-warn',
  bad: 'bg-bad-soft text-bad',
};
export type Tone = keyof typeof TONES;

export function Tag({ tone = 'plain', children }: { tone?: Tone; children: ReactNode }) {
  return (
    <span
      className={clsx(
        'inline-block whitespace-nowrap rounded px-1.5 py-px font-semibold text-[11.5px]',
        TONES[tone],
      )}
    >
      {children}
    </span>
  );
}

const JOB_TONES: Record<JobItem['state'], Tone> = {
  queued: 'plain',
  running: 'sea',
  waiting: 'sea',
  paused: 'warn',
  succeeded: 'good',
  failed: 'bad',
  refused: 'bad',
  cancelled: 'plain',
  expired: 'warn',
  unsure: 'warn',
};
const EFFECT_TONES: Record<NonNullable<JobItem['effect']>, Tone> = {
  confirmed: 'good',
  unconfirmed: 'bad',
  'not checked': 'plain',
};

/** What a job has come to: its effect once it has one, its state before and otherwise. */
export function JobTag({
  state,
  effect,
}: Pick<JobItem, 'state'> & Partial<Pick<JobItem, 'effect'>>) {
  if (state === 'succeeded' && effect) return <Tag tone={EFFECT_TONES[effect]}>{effect}</Tag>;
  return <Tag tone={JOB_TONES[state]}>{state}</Tag>;
}

/** That something was made up, wherever it is seen. */
export function TrialTag({ trial }: { trial?: JobItem['trial'] | boolean }) {
  if (!trial) return null;
  return <Tag tone="warn">{trial === 'acting' ? 'trial that acts' : 'trial'}</Tag>;
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="py-6 text-center text-ink-3">{children}</p>;
}

export function Failed({ error }: { error: Error }) {
  const problems = error instanceof Refused ? error.problems : [];
  return (
    <div role="alert" className="rounded-md bg-bad-soft px-3 py-2 text-bad">
      <p className="break-words">{error.message}</p>
      {problems.length > 0 && (
        <ul className="list-disc pl-5 text-[13px]">
          {problems.map((problem) => (
            <li
              key={`${problem.line} ${problem.column} ${problem.message}`}
              className="whitespace-pre-wrap"
            >
              {problem.file}, line {problem.line}: {problem.message}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** A question that is not answered yet, or was refused; nothing once it is answered. */
export function Unanswered({
  question,
}: {
  question: { isPending: boolean; error: Error | null; data?: unknown };
}) {
  // What was answered before stays; the frame says that it may be old.
  if (question.error && question.data === undefined) return <Failed error={question.error} />;
  return question.isPending ? <Empty>Asking</Empty> : null;
}

/** A whole view that cannot be shown. */
export function Lost({ error }: { error: Error }) {
  return (
    <>
      <Header title="This cannot be shown" />
      <Failed error={error} />
    </>
  );
}

type HeaderProps = {
  title: ReactNode;
  /** What the page is called in the browser, where that is another. */
  page?: string;
  children?: ReactNode;
  right?: ReactNode;
};

export function Header({ title, page, children, right }: HeaderProps) {
  const heading = useRef<HTMLHeadingElement>(null);
  const called = page ?? (typeof title === 'string' ? title : undefined);
  useEffect(() => {
    if (called) document.title = `${called} - Arvok`;
  }, [called]);
  // Whoever has come here goes on here.
  useEffect(() => {
    if (document.activeElement === document.body) heading.current?.focus({ preventScroll: true });
  }, []);
  return (
    <header className="flex flex-wrap items-baseline gap-x-3.5 gap-y-1">
      <h1
        ref={heading}
        tabIndex={-1}
        className="break-all font-bold text-[22px] leading-tight outline-none"
      >
        {title}
      </h1>
      {children}
      {right && (
        <div className="ml-auto flex flex-wrap items-center gap-2 text-ink-2 print:hidden">
          {right}
        </div>
      )}
    </header>
  );
}

/** Names and values, one a line. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-[13px]">
      {rows.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-ink-2">{name}</dt>
          <dd className="min-w-0 break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** What a program wrote, its end in sight; nothing if that is nothing. */
export function Written({ of, text }: { of: string; text: unknown }) {
  if (typeof text !== 'string' || text === '') return null;
  return (
    <>
      <h3 className="font-semibold text-[12px] text-ink-3">{of}</h3>
      <Json value={text} of={of.toLowerCase()} atEnd />
    </>
  );
}

/** How far from its end a box may be scrolled and still follow it. */
const NEAR = 40;

export function Json({
  value,
  of = 'the value',
  atEnd,
}: {
  value: unknown;
  of?: string;
  atEnd?: boolean;
}) {
  const text = typeof value === 'string' ? value : JSON.stringify(value, null, 2);
  const box = useRef<HTMLPreElement>(null);
  const follows = useRef(true);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is new stands at the end
  useEffect(() => {
    if (atEnd && follows.current && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [text, atEnd]);
  return (
    <div className="relative">
      <pre
        ref={box}
        onScroll={({ currentTarget: at }) => {
          follows.current = at.scrollHeight - at.scrollTop - at.clientHeight < NEAR;
        }}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
        tabIndex={0}
        className="max-h-72 overflow-auto whitespace-pre-wrap break-words pr-10 text-ink-2 print:max-h-none"
      >
        {text}
      </pre>
      <span className="absolute top-0 right-0">
        <Copy text={text} of={of} />
      </span>
    </div>
  );
}
