// The marks: severity as a gauge of five ticks, verdicts as solid, hollow or small.
import type { Severity, Verdict } from '../api/client';

export const RANK: Record<Severity, number> = {
  indeterminate: 1,
  warning: 2,
  minor: 3,
  major: 4,
  critical: 5,
};

/** Filled from the bottom, one tick for indeterminate to five for critical; empty when cleared. */
export function Gauge({
  severity,
  cleared,
  small,
}: {
  severity: Severity;
  cleared?: boolean;
  small?: boolean;
}) {
  const rank = RANK[severity];
  const filled = cleared ? 0 : rank;
  return (
    <svg
      width={small ? 10 : 15}
      height={small ? 14 : 21}
      viewBox="0 0 15 21"
      role="img"
      aria-label={cleared ? 'cleared' : severity}
      className="shrink-0"
    >
      {[0, 1, 2, 3, 4].map((i) => (
        <rect
          key={i}
          x="1"
          y={17 - i * 4}
          width={6 + i * 1.6}
          height="2.6"
          rx=".8"
          fill={i < filled ? `var(--sev-${rank})` : 'var(--line)'}
        />
      ))}
    </svg>
  );
}

/** The letter of a held verdict; the others have marks of their own. */
const LETTERS: Record<Verdict, string> = {
  dispatched: '',
  proposed: '',
  folded: '',
  watched: 'w',
  idle: 'i',
  waiting: 't',
  resting: 'r',
  capped: 'c',
  flapping: 'f',
  muted: 'm',
  frozen: 'z',
  symptom: 's',
  broken: '!',
};

/** Dispatched is solid, held ones are hollow with a letter, folded ones small. */
export function VerdictMark({ verdict }: { verdict: Verdict }) {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap align-top">
      <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
        {verdict === 'dispatched' && <circle cx="7" cy="7" r="5.5" fill="var(--sea)" />}
        {verdict === 'proposed' && (
          <>
            <circle cx="7" cy="7" r="5.5" fill="none" stroke="var(--sea)" strokeWidth="1.4" />
            <circle cx="7" cy="7" r="2.6" fill="var(--sea)" />
          </>
        )}
        {verdict === 'folded' && <circle cx="7" cy="7" r="2.2" fill="var(--ink-3)" />}
        {LETTERS[verdict] && (
          <>
            <circle cx="7" cy="7" r="5.8" fill="none" stroke="var(--ink-3)" strokeWidth="1.2" />
            <text x="7" y="10" fontSize="9" textAnchor="middle" fill="var(--ink-2)">
              {LETTERS[verdict]}
            </text>
          </>
        )}
      </svg>
      {verdict}
    </span>
  );
}

export function Brand() {
  return (
    <svg width="24" height="24" viewBox="0 0 24 24" aria-hidden="true">
      <path
        d="M2 5h6l5 7-5 7H2"
        fill="none"
        stroke="var(--sea)"
        strokeWidth="2.4"
        strokeLinejoin="round"
        strokeLinecap="round"
      />
      <path d="M13 12h9" stroke="var(--sev-4)" strokeWidth="2.4" strokeLinecap="round" />
    </svg>
  );
}
