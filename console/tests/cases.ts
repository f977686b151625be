// The console's pure parts under the names that the cases call them by. What needs a browser is tested in one.
import { CompletionContext } from '@codemirror/autocomplete';
import { EditorState } from '@codemirror/state';
import { type Destination, destinations } from '../src/shell/destinations';
import { curl } from '../src/ui/curl';
import { shown } from '../src/ui/principal';
import { inOrder } from '../src/ui/sort';
import { between, clock as clockOf, exact, rough } from '../src/ui/time';
import { bytes, some } from '../src/ui/words';
import { band, height } from '../src/views/band';
import { asStep } from '../src/views/connection/step';
import { complete, inExpression, type Known, pathAt } from '../src/views/definition/complete';
import { difference } from '../src/views/definition/lines';
import { headline } from '../src/views/headline';
import { firstOfInterest, rows as stepRows } from '../src/views/job/rows';
import { type Field, fields, fromAlert, given, type Schema } from '../src/views/launch/inputs';
import { marks, rows, span } from '../src/views/rule/laneData';
import { allowsMore, stanceOf, withStance } from '../src/views/rule/stance';
import { rows as boxRows, layout } from '../src/views/runbook/layout';
import { ended, took } from '../src/views/runbook/results';

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
const axis = (from: string, to: string) =>
  marks(Date.parse(from), Date.parse(to)).map((mark) => mark.label);
const stretch = (...given: Parameters<typeof span>) =>
  span(...given).map((at) => new Date(at).toISOString());
const counted = (...given: Parameters<typeof band>) => {
  const { columns, leaving } = band(...given);
  return [columns, ...leaving].map((all) =>
    all.map((one) => `${one.count} ${one.label} -> ${one.to ?? 'nothing'}`),
  );
};

const form = (inputs: Record<string, Schema>, before?: Record<string, unknown>) =>
  fields(inputs, before).map(
    (f) => `${f.name} ${f.kind}${f.must ? ' must' : ''}: ${f.first} ${f.choices}`,
  );
const typed = (inputs: Record<string, Schema>, text: Record<string, string>) =>
  given(fields(inputs) satisfies Field[], text);
const steps = (...of: Parameters<typeof stepRows>) => {
  const all = stepRows(...of);
  const what = (row: (typeof all)[number]) => {
    if (row.kind === 'step') return row.step.place;
    return row.kind === 'part'
      ? `${row.taken ? '' : row.undecided ? 'perhaps ' : 'not '}${row.label}`
      : `${row.items} left out`;
  };
  return {
    rows: all.map((row) => `${'  '.repeat(row.depth)}${what(row)}`),
    first: firstOfInterest(all)?.key ?? null,
  };
};

const reached = (typed: string, names: string[]) =>
  destinations(
    typed,
    names.map(
      (name): Destination => ({ name, what: name.includes('-') ? 'rule' : 'view', to: `/${name}` }),
    ),
  ).map((goal) => `${goal.name} ${goal.to}`);
const drawn = (steps: Parameters<typeof layout>[0]) => {
  const { boxes, labels, lines, frames, width, height } = layout(steps);
  return {
    boxes: boxes.map((b) => `${b.step.id} ${b.x} ${b.y} ${b.h}: ${boxRows(b.step).join(' | ')}`),
    labels: labels.map((l) => `${l.text} ${l.x} ${l.y} ${l.w}`),
    lines,
    frames: frames.map((f) => `${f.x} ${f.y} ${f.w} ${f.h}`),
    size: `${width} ${height}`,
  };
};
const clock = (t: string, zone: 'UTC', now: string) => clockOf(t, zone, new Date(now));
const result = (job: Parameters<typeof ended>[0]) => [...ended(job), took(job)];

const ordered = (keys: (string | number | null)[], down: boolean) =>
  inOrder(keys, (key) => key, down);

const parts = {
  allowsMore,
  asStep,
  axis,
  between,
  bytes,
  changed,
  clock,
  counted,
  curl,
  drawn,
  exact,
  result,
  form,
  fromAlert,
  height,
  lanes,
  headline,
  offered,
  ordered,
  steps,
  place,
  reached,
  shown,
  rough,
  some,
  stanceOf,
  stretch,
  typed,
  withStance,
};
export type Part = keyof typeof parts;

/** What a part gives for a case. */
export const play = (part: Part, given: unknown[]) =>
  (parts[part] as (...given: unknown[]) => unknown)(...given);
