// The versions of a definition, each with what it changed.
import { useQuery } from '@tanstack/react-query';
import { versions } from '../../api/client';
import { Panel, Unanswered } from '../../ui/parts';
import { exact } from '../../ui/time';
import { difference } from './difference';

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

export function Versions({ kind, name }: { kind: string; name: string }) {
  const found = useQuery({
    queryKey: ['definitions', kind, name, 'versions'],
    queryFn: () => versions(kind, name),
  });
  const items = found.data?.items ?? [];
  return (
    <Panel title="Versions" aside={items.length}>
      <Unanswered question={found} />
      {items.map((v, i) => (
        <details key={v.version} className="border-line border-t py-1.5 first-of-type:border-t-0">
          <summary className="cursor-pointer text-[13px]">
            <b className="font-semibold">version {v.version}</b>{' '}
            <span className="text-ink-2">
              {v.withdrawn ? 'withdrawn' : 'published'} by {v.published_by}, {exact(v.published_at)}
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
