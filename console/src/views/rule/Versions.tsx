// The versions of a rule, each with what it changed.
import { useQuery } from '@tanstack/react-query';
import { versions } from '../../api/client';
import { Failed, Panel } from '../../ui/parts';
import { exact } from '../../ui/time';

export type Line = { mark: '+' | '-' | ' '; text: string };

/** The lines that two texts have in common and those that only one has. */
export function difference(before: string, after: string): Line[] {
  const [a, b] = [before.trimEnd().split('\n'), after.trimEnd().split('\n')];
  const common = Array.from({ length: a.length + 1 }, () => new Uint16Array(b.length + 1));
  for (let i = a.length - 1; i >= 0; i--) {
    for (let j = b.length - 1; j >= 0; j--) {
      const row = common[i] as Uint16Array;
      const below = common[i + 1] as Uint16Array;
      row[j] = a[i] === b[j] ? (below[j + 1] ?? 0) + 1 : Math.max(below[j] ?? 0, row[j + 1] ?? 0);
    }
  }
  const lines: Line[] = [];
  let [i, j] = [0, 0];
  while (i < a.length || j < b.length) {
    if (i < a.length && j < b.length && a[i] === b[j]) {
      lines.push({ mark: ' ', text: a[i] ?? '' });
      i++;
      j++;
    } else if (i < a.length && (j >= b.length || (common[i + 1]?.[j] ?? 0) >= (common[i]?.[j + 1] ?? 0))) {
      lines.push({ mark: '-', text: a[i++] ?? '' });
    } else lines.push({ mark: '+', text: b[j++] ?? '' });
  }
  return lines;
}

/** What changed, with a line of context around it. */
export function Difference({ before, after }: { before: string; after: string }) {
  const lines = difference(before, after);
  const near = lines.map((_, i) => [i - 1, i, i + 1].some((k) => (lines[k]?.mark ?? ' ') !== ' '));
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
    <pre tabIndex={0} className="max-h-80 overflow-auto whitespace-pre-wrap break-words">
      {lines.map((line, i) =>
        near[i] ? (
          <span
            // biome-ignore lint/suspicious/noArrayIndexKey: the lines of a text are told apart by nothing else
            key={i}
            className={
              line.mark === '+' ? 'block bg-good-soft' : line.mark === '-' ? 'block bg-bad-soft' : 'block'
            }
          >
            {line.mark} {line.text}
          </span>
        ) : null,
      )}
    </pre>
  );
}

export function Versions({ name }: { name: string }) {
  const found = useQuery({
    queryKey: ['definitions', 'rule', name, 'versions'],
    queryFn: () => versions('rule', name),
  });
  const items = found.data?.items ?? [];
  return (
    <Panel title="Versions" aside={items.length}>
      {found.error && <Failed error={found.error} />}
      {items.map((v, i) => (
        <details key={v.version} className="border-line border-t py-1.5 first-of-type:border-t-0">
          <summary className="cursor-pointer text-[13px]">
            <b className="font-semibold">version {v.version}</b>{' '}
            <span className="text-ink-2">
              by {v.published_by}, {exact(v.published_at)}
            </span>
          </summary>
          <div className="mt-1">
            {items[i + 1] ? (
              <Difference before={items[i + 1]?.text ?? ''} after={v.text} />
            ) : (
              <pre className="whitespace-pre-wrap break-words">{v.text}</pre>
            )}
          </div>
        </details>
      ))}
    </Panel>
  );
}
