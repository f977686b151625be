// The console's pure parts: what it says of times and numbers, how texts differ, where a cursor stands in a rule and what it
// is offered there, what a rehearsal draws. Cases of data, beside what they give.
import { expect, test } from 'vitest';
import { type Part, play } from './cases';
import data from './cases.json';

type Written = { known: object & { words: object }; book: object; cases: [Part, unknown[]][] };
const written = data as unknown as Written;

/** What stands for the long values. */
const NAMED: Record<string, unknown> = {
  KNOWN: written.known,
  // What a runbook's editor knows, with the same words.
  BOOK: { ...written.book, words: written.known.words },
};
const given = (value: unknown) =>
  typeof value === 'string' && value in NAMED ? NAMED[value] : value;

const parts = new Map<Part, [Part, unknown[]][]>();
for (const one of written.cases) parts.set(one[0], [...(parts.get(one[0]) ?? []), one]);

test.each([...parts])('%s', (part, cases) => {
  const lines = cases.map(([, values]) => {
    const gave = play(part, values.map(given));
    return `${values.map((value) => JSON.stringify(value)).join(', ')} -> ${JSON.stringify(gave)}`;
  });
  expect(`\n${lines.join('\n')}\n`).toMatchSnapshot();
});
