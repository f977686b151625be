// The console's pure parts under the names that the cases call them by.
import { CompletionContext } from '@codemirror/autocomplete';
import { EditorState } from '@codemirror/state';
import { between, exact, rough } from '../src/ui/time';
import { some } from '../src/ui/words';
import { rows as passageRows, telling } from '../src/views/job/rows';
import { type Field, fields, given, type Schema } from '../src/views/launch/inputs';
import { mood } from '../src/views/mood';
import { height, sides } from '../src/views/narrowing';
import { complete, inExpression, type Known, pathAt } from '../src/views/rule/complete';
import { difference } from '../src/views/rule/difference';
import { marks, rows, span } from '../src/views/rule/laneData';
import { allowsMore, stanceOf, withStance } from '../src/views/rule/stance';

/** The words that the editor offers where `|` stands in a text. */
function offered(known: Known, text: string): string[] | null {
  const pos = text.indexOf('|');
  const state = EditorState.create({ doc: text.replace('|', '') });
  const found = complete(known)(new CompletionContext(state, pos, true));
  return found?.options.map((option) => option.label) ?? null;
}

const place = (text: string) => {
  const { path, key } = pathAt(text);
  return { path: path.join('.'), key, expression: inExpression(text, path, key) };
};

const changed = (before: string, after: string) =>
  difference(before, after).map((line) => `${line.mark}${line.text}`);

const lanes = (...given: Parameters<typeof rows>) => Object.fromEntries(rows(...given));
const axis = (from: string, to: string) => marks(Date.parse(from), Date.parse(to)).map((mark) => mark.label);
const stretch = (...given: Parameters<typeof span>) => span(...given).map((at) => new Date(at).toISOString());
const leaving = (...given: Parameters<typeof sides>) =>
  sides(...given).map((column) => column.map((side) => `${side.count} ${side.label} -> ${side.to}`));

const form = (inputs: Record<string, Schema>, before?: Record<string, unknown>) =>
  fields(inputs, before).map((f) => `${f.name} ${f.kind}${f.must ? ' must' : ''}: ${f.first} ${f.choices}`);
const typed = (inputs: Record<string, Schema>, text: Record<string, string>) =>
  given(fields(inputs) satisfies Field[], text);
const passage = (...of: Parameters<typeof passageRows>) => {
  const all = passageRows(...of);
  const line = (row: (typeof all)[number]) =>
    `${'  '.repeat(row.depth)}${row.kind === 'step' ? row.step.place : `${row.taken ? '' : 'not '}${row.label}`}`;
  return { rows: all.map(line), first: telling(all)?.key ?? null };
};

const parts = {
  allowsMore,
  axis,
  between,
  changed,
  exact,
  form,
  height,
  lanes,
  leaving,
  mood,
  offered,
  passage,
  place,
  rough,
  some,
  stanceOf,
  stretch,
  typed,
  withStance,
};
type Part = keyof typeof parts;

/** What each case gives, in the order of the cases. */
export const play = (cases: [Part, unknown[]][]) =>
  cases.map(([name, given]) => (parts[name] as (...given: unknown[]) => unknown)(...given));
