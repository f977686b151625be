// JSON whose numbers are kept as they are written, where JavaScript would round them (ECMA-262, JSON.rawJSON).

type Source = { source?: string };
type Exact = Omit<typeof JSON, 'parse'> & {
  rawJSON?: (text: string) => unknown;
  parse: (
    text: string,
    reviver: (key: string, value: unknown, context?: Source) => unknown,
  ) => unknown;
};

export function exactly(text: string): unknown {
  const { rawJSON, parse } = JSON as unknown as Exact;
  return parse(text, (_, value, context) =>
    typeof value === 'number' && !Number.isSafeInteger(value) && rawJSON && context?.source
      ? written(value, context.source, rawJSON)
      : value,
  );
}

/** A fraction that says the same stays a number. */
function written(value: number, source: string, raw: (text: string) => unknown): unknown {
  return String(value) === source ? value : raw(source);
}
