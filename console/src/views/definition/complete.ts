// Completing words in a definition: keys from the JSON Schema that the service hands out, names and
// labels from what has been seen, functions and fields inside expressions.
import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';
import type { Vocabulary } from '../../api/client';

type Schema = {
  $ref?: string;
  $defs?: Record<string, Schema>;
  properties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  anyOf?: Schema[];
  oneOf?: Schema[];
  enum?: string[];
  const?: string;
  description?: string;
};

/** What expressions see: a record is an object of its fields, anything else a text that says what it is. */
export type Fields = { [name: string]: Fields | string };

/** `sees` is what the expressions of a runbook start from; a rule's know the alert and its tally. */
export type Known = { schema: Schema; words: Vocabulary; sees?: Fields };

/** The keys that lead to a place, told from indentation and open braces. */
export function pathAt(before: string): { path: string[]; key: string | null } {
  const lines = before.split('\n');
  const current = lines.pop() ?? '';
  const line = /^(\s*(?:- +)*)(.*)$/.exec(current) ?? ['', '', ''];
  let indent = (line[1] ?? '').length;
  const path: string[] = [];
  for (const above of lines.reverse()) {
    const [, lead = '', key] = /^(\s*(?:- +)*)([\w-]+):/.exec(above) ?? [];
    const dashed = above.trim().startsWith('- ') && lead.length <= indent;
    if (key && lead.length < indent) {
      path.unshift(key);
      indent = dashed ? lead.indexOf('-') : lead.length;
    }
    if (indent === 0) break;
  }
  // Keys within braces on this line.
  let rest = line[2] ?? '';
  let key: string | null = null;
  // An item of a list that is written in braces.
  if (rest.startsWith('{') && !closes(rest.slice(1))) rest = lastField(rest.slice(1));
  for (;;) {
    const opened = /^([\w-]+):\s*(\[\s*)?\{(.*)$/.exec(rest);
    if (!opened || closes(opened[3] ?? '')) break;
    path.push(opened[1] ?? '');
    rest = lastField(opened[3] ?? '');
  }
  const keyed = /^([\w-]+):(\s.*)?$/.exec(rest.trimStart());
  if (keyed) key = keyed[1] ?? null;
  return { path, key };
}

const closes = (text: string) => {
  let depth = 1;
  for (const c of text) {
    if (c === '{') depth++;
    if (c === '}' && --depth === 0) return true;
  }
  return false;
};

/** What stands behind the last comma outside of brackets. */
function lastField(text: string): string {
  let depth = 0;
  let from = 0;
  for (let i = 0; i < text.length; i++) {
    const c = text[i];
    if (c === '{' || c === '[') depth++;
    if (c === '}' || c === ']') depth--;
    if (c === ',' && depth === 0) from = i + 1;
  }
  return text.slice(from).trimStart();
}

function resolved(root: Schema, schema: Schema | undefined): Schema[] {
  if (!schema) return [];
  if (schema.$ref) return resolved(root, root.$defs?.[schema.$ref.split('/').pop() ?? '']);
  const many = schema.anyOf ?? schema.oneOf;
  if (many) return many.flatMap((s) => resolved(root, s)).concat(schema.properties ? [schema] : []);
  return schema.items ? [schema, ...resolved(root, schema.items)] : [schema];
}

function at(root: Schema, path: string[]): Schema[] {
  return path.reduce<Schema[]>(
    (here, key) =>
      here.flatMap((s) => {
        const extra =
          typeof s.additionalProperties === 'object' ? s.additionalProperties : undefined;
        return resolved(root, s.properties?.[key] ?? extra);
      }),
    [root],
  );
}

const EXPRESSIONS = ['where', 'when', 'fold', 'by', 'require', 'check', 'each'];

/** Whether the cursor stands inside an expression. */
export function inExpression(before: string, path: string[], key: string | null): boolean {
  const line = before.slice(before.lastIndexOf('\n') + 1);
  const open = line.lastIndexOf('${');
  if (open >= 0 && !line.slice(open).includes('}')) return true;
  return EXPRESSIONS.includes(key ?? '') || EXPRESSIONS.includes(path[path.length - 1] ?? '');
}

/** Each label once: a key may stand in several parts of the schema. */
const once = (found: Completion[]): Completion[] => {
  const labels = new Set<string>();
  return found.filter((one) => !labels.has(one.label) && labels.add(one.label));
};

const options = (words: string[], type: string, detail?: string): Completion[] =>
  words.map((label) => ({ label, type, detail }));

/** The value of a key in the step around the cursor, which begins with the dash above it. */
export function ofStep(text: string, pos: number, key: string): string | undefined {
  const lines = text.split('\n');
  const here = text.slice(0, pos).split('\n').length - 1;
  const indent = (line: string) => /^ */.exec(line)?.[0].length ?? 0;
  const blank = (line: string) => line.trim() === '';
  let first = here;
  let depth = indent(lines[here] ?? '');
  while (first > 0 && !(/^ *- /.test(lines[first] ?? '') && indent(lines[first] ?? '') <= depth)) {
    first--;
    if (!blank(lines[first] ?? '')) depth = Math.min(depth, indent(lines[first] ?? ''));
  }
  let last = first + 1;
  const dash = indent(lines[first] ?? '');
  while (last < lines.length && (blank(lines[last] ?? '') || indent(lines[last] ?? '') > dash))
    last++;
  const within = lines.slice(first, last).join('\n');
  return new RegExp(`(?:^|[\\s{,])${key}:\\s*["']?([\\w.-]+)`).exec(within)?.[1];
}

/** What stands in a step of a runbook: connections, operations, runbooks, and what these take. */
function stepNames(words: Vocabulary, key: string, around: (key: string) => string | undefined) {
  const all = Object.entries(words.connections);
  const via = around('via');
  switch (key) {
    case 'via':
    case 'connections':
      return options(Object.keys(words.connections), 'text', 'published');
    case 'call': {
      const found = all.filter(([name]) => !via || name === via);
      return found.flatMap(([name, operations]) =>
        operations.map((o) => ({
          label: o.name,
          type: 'text',
          detail: name,
          info: o.summary ?? undefined,
        })),
      );
    }
    case 'runbook':
    case 'runbooks':
      return options(Object.keys(words.runbooks), 'text', 'published');
    case 'give': {
      const call = around('call');
      const operations = all.filter(([name]) => !via || name === via).flatMap(([, o]) => o);
      const runbook = around('runbook');
      const takes = call
        ? operations.find((o) => o.name === call)?.takes
        : runbook && words.runbooks[runbook];
      return (takes || []).map((label) => ({ label, type: 'property', apply: `${label}: ` }));
    }
  }
  return null;
}

function names(words: Vocabulary, path: string[], key: string): Completion[] | null {
  const place = [...path, key].join('.');
  if (path[path.length - 1] === 'labels') return options(words.labels[key] ?? [], 'text', 'seen');
  switch (place) {
    case 'listen.sources':
      return options(words.sources, 'text');
    case 'listen.kinds':
      return options(words.kinds, 'text', 'seen');
    case 'listen.resource':
      return options(words.resources, 'text', 'seen');
    case 'listen.severity':
      return options([...words.severities, ...words.severities.map((s) => `${s}..`)], 'text');
    case 'listen.states':
      return options(['raised', 'cleared', 'noted'], 'text');
    case 'dispatch.runbook':
      return options(Object.keys(words.runbooks), 'text', 'published');
  }
  return null;
}

/** The fields of a dotted name, as far as they are known. */
function fieldsOf(sees: Fields, dotted: string): Completion[] {
  let here: Fields | string | undefined = sees;
  for (const name of dotted.split('.').slice(0, -1))
    here = typeof here === 'object' ? here[name] : undefined;
  if (typeof here !== 'object') return [];
  return Object.entries(here).map(([label, of]) => ({
    label,
    type: 'property',
    detail: typeof of === 'string' ? of : 'a map',
    // Before all that could be called on it.
    boost: 10,
  }));
}

function inner({ words, sees }: Known, context: CompletionContext): CompletionResult | null {
  const field = context.matchBefore(/alert\.(labels\.)?[\w-]*/);
  if (field) {
    const labels = field.text.startsWith('alert.labels.');
    const from = field.from + (labels ? 'alert.labels.' : 'alert.').length;
    const found = labels ? Object.keys(words.labels) : words.fields;
    return { from, options: options(found, 'property'), validFor: /^[\w-]*$/ };
  }
  const word = context.matchBefore(/[\w.-]*/);
  if (!word || (word.from === word.to && !context.explicit)) return null;
  const from = word.from + word.text.lastIndexOf('.') + 1;
  const calls = words.functions.map((f) => ({
    label: f.name,
    type: 'function',
    apply: `${f.name}(`,
    detail: f.form.slice(f.name.length),
    info: f.says,
  }));
  if (from > word.from) {
    const found = sees ? fieldsOf(sees, word.text) : [];
    return { from, options: [...found, ...calls], validFor: /^[\w-]*$/ };
  }
  const start = sees ? ['alert', ...Object.keys(sees)] : ['alert', 'tally'];
  const roots = options([...new Set([...start, ...words.severities])], 'variable');
  return { from, options: [...roots, ...calls], validFor: /^\w*$/ };
}

export const complete =
  (known: Known) =>
  (context: CompletionContext): CompletionResult | null => {
    const before = context.state.sliceDoc(0, context.pos);
    const { path, key } = pathAt(before);
    if (inExpression(before, path, key)) return inner(known, context);
    const word = context.matchBefore(/[\w./*-]*/);
    if (!word || (word.from === word.to && !context.explicit)) return null;
    const around = (key: string) => ofStep(context.state.doc.toString(), context.pos, key);
    if (known.sees) {
      const found = stepNames(known.words, key ?? path[path.length - 1] ?? '', around);
      if (found?.length) return { from: word.from, options: found, validFor: /^[\w.-]*$/ };
    }
    if (key) {
      const schema = at(known.schema, [...path, key]);
      const words = schema.flatMap((s) => [...(s.enum ?? []), ...(s.const ? [s.const] : [])]);
      const found = names(known.words, path, key) ?? once(options(words, 'enum'));
      return found.length > 0 ? { from: word.from, options: found, validFor: /^[\w./*-]*$/ } : null;
    }
    const place = path.join('.');
    const listed =
      path.length > 0 ? names(known.words, path.slice(0, -1), path[path.length - 1] ?? '') : null;
    if (listed) return { from: word.from, options: listed, validFor: /^[\w./*-]*$/ };
    const keys = at(known.schema, path).flatMap((s) => Object.entries(s.properties ?? {}));
    const own = keys.map(([label, s]) => ({
      label,
      type: 'property',
      apply: `${label}: `,
      info: s.description,
    }));
    const extra =
      place === 'listen.labels'
        ? Object.keys(known.words.labels)
        : place === 'dispatch.inputs'
          ? Object.values(known.words.runbooks).flat()
          : place === 'knowingly'
            ? Object.keys(known.words.warnings)
            : [];
    const found = once([
      ...own,
      ...extra.map((label) => ({ label, type: 'property', apply: `${label}: ` })),
    ]);
    return found.length > 0 ? { from: word.from, options: found, validFor: /^[\w-]*$/ } : null;
  };
