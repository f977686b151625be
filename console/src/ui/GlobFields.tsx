// Lines of names and globs, each of its own kind: typed with commas or spaces between.
type Props<K extends string> = {
  /** The key of each line, what it is called, and an example. */
  lines: readonly (readonly [K, string, string])[];
  typed: Partial<Record<K, string>>;
  onType: (key: K, text: string) => void;
};

/** What was typed, as names and globs. */
export function globs(text: string | undefined): string[] {
  return (text ?? '').split(/[\s,]+/).filter((glob) => glob !== '');
}

export function GlobFields<K extends string>({ lines, typed, onType }: Props<K>) {
  return lines.map(([key, name, example]) => (
    <label key={key} className="text-[13px] text-ink-2">
      {name}
      <input
        className="mono mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
        value={typed[key] ?? ''}
        placeholder={example}
        onChange={(event) => onType(key, event.target.value)}
      />
    </label>
  ));
}
