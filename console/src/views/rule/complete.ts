// Completing words in a rule: keys from the JSON Schema that the service hands out, names and
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

export type Known = { schema: Schema; words: Vocabulary };

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
        const extra = typeof s.additionalProperties === 'object' ? s.additionalProperties : undefined;
        return resolved(root, s.properties?.[key] ?? extra);
      }),
    [root],
  );
}

const EXPRESSIONS = ['where', 'when', 'fold', 'by'];

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

function inner(words: Vocabulary, context: CompletionContext): CompletionResult | null {
  const field = context.matchBefore(/alert\.(labels\.)?[\w-]*/);
  if (field) {
    const labels = field.text.startsWith('alert.labels.');
    const from = field.from + (labels ? 'alert.labels.' : 'alert.').length;
    const found = labels ? Object.keys(words.labels) : words.fields;
    return { from, options: options(found, 'property'), validFor: /^[\w-]*$/ };
  }
  const word = context.matchBefore(/[\w.]*/);
  if (!word || (word.from === word.to && !context.explicit)) return null;
  const from = word.from + word.text.lastIndexOf('.') + 1;
  const calls = words.functions.map((f) => ({
    label: f.name,
    type: 'function',
    apply: `${f.name}(`,
    detail: f.form.slice(f.name.length),
    info: f.says,
  }));
  const roots = options(['alert', 'tally', ...words.severities], 'variable');
  return { from, options: from > word.from ? calls : [...roots, ...calls], validFor: /^\w*$/ };
}

export const complete =
  (known: Known) =>
  (context: CompletionContext): CompletionResult | null => {
    const before = context.state.sliceDoc(0, context.pos);
    const { path, key } = pathAt(before);
    if (inExpression(before, path, key)) return inner(known.words, context);
    const word = context.matchBefore(/[\w./*-]*/);
    if (!word || (word.from === word.to && !context.explicit)) return null;
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
    const found = once([...own, ...extra.map((label) => ({ label, type: 'property', apply: `${label}: ` }))]);
    return found.length > 0 ? { from: word.from, options: found, validFor: /^[\w-]*$/ } : null;
  };
