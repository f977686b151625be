// Problems about a text as it is written: asked a moment after the last key, listed below the editor.
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { type FileProblem, publish, Refused } from '../../api/client';
import { Tag } from '../../ui/parts';

/** What is said a moment after a text has come to rest. */
export function useRested(text: string): string {
  const [rested, setRested] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setRested(text), 350);
    return () => clearTimeout(timer);
  }, [text]);
  return rested;
}

export function useProblems(
  name: string,
  text: string,
): { problems: FileProblem[]; warnings: FileProblem[]; failed?: Error } {
  const asked = useRested(text);
  const checked = useQuery({
    queryKey: ['check', name, asked],
    queryFn: () => publish(`${name}.yaml`, asked, true),
    retry: false,
    placeholderData: (before) => before,
  });
  // Who may only look is not told about what could be published.
  const failed =
    checked.error instanceof Refused && checked.error.status === 403 ? undefined : checked.error;
  return {
    problems: checked.data?.problems ?? [],
    warnings: checked.data?.warnings ?? [],
    failed: failed ?? undefined,
  };
}

export function Problems({
  problems,
  warnings,
}: {
  problems: FileProblem[];
  warnings: FileProblem[];
}) {
  if (problems.length + warnings.length === 0) return null;
  return (
    <ul className="mt-2 border-line border-t pt-2 text-[13px]" aria-label="Problems">
      {[...problems, ...warnings].map((p) => (
        <li key={`${p.line} ${p.column} ${p.message}`} className="flex gap-2 py-0.5">
          <span>
            <Tag tone={p.warning ? 'warn' : 'bad'}>line {p.line}</Tag>
          </span>
          <span className="whitespace-pre-wrap break-words text-ink-2">
            {p.message}
            {p.warning && <span className="text-ink-3"> ({p.warning})</span>}
          </span>
        </li>
      ))}
    </ul>
  );
}
