// What two texts have in common, line by line.
export type Line = { mark: '+' | '-' | ' '; text: string };

const linesOf = (text: string) => (text.trim() === '' ? [] : text.trimEnd().split('\n'));

/** The lines that two texts have in common and those that only one has. */
export function difference(before: string, after: string): Line[] {
  const [a, b] = [linesOf(before), linesOf(after)];
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
    } else if (
      i < a.length &&
      (j >= b.length || (common[i + 1]?.[j] ?? 0) >= (common[i]?.[j + 1] ?? 0))
    ) {
      lines.push({ mark: '-', text: a[i++] ?? '' });
    } else lines.push({ mark: '+', text: b[j++] ?? '' });
  }
  return lines;
}
