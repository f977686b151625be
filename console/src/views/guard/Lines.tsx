// What a guard allows, line by line, and how much of it is used.
import clsx from 'clsx';
import type { GuardItem } from '../../api/client';

export function Lines({ guard }: { guard: GuardItem }) {
  return (
    <ul className="grid gap-1 text-[13px]">
      {guard.lines.map((line) => (
        <li
          key={line.line}
          className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_72px] items-center gap-x-3"
        >
          <span className="min-w-0 break-words">{line.allows}</span>
          <span className="min-w-0 break-words text-ink-2">{line.stands}</span>
          {typeof line.used === 'number' && (
            <Share used={line.used} label={`${line.stands}; allowed: ${line.allows}`} />
          )}
        </li>
      ))}
    </ul>
  );
}

/** How much of a limit is used: full where nothing more may begin. */
function Share({ used, label }: { used: number; label: string }) {
  return (
    <span role="img" aria-label={label} className="h-1.5 overflow-hidden rounded-full bg-sunk">
      <span
        className={clsx('block h-full', used >= 1 ? 'bg-warn' : 'bg-sea')}
        style={{ width: `${Math.min(100, used * 100)}%` }}
      />
    </span>
  );
}
