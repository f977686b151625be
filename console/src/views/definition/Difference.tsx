// How two texts differ, line by line.
import { difference } from './lines';

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
              line.mark === '+'
                ? 'block bg-good-soft'
                : line.mark === '-'
                  ? 'block bg-bad-soft'
                  : 'block'
            }
          >
            {line.mark} {line.text}
          </span>
        ) : null,
      )}
    </pre>
  );
}
