// The form of a runbook: its inputs as fields, and what was typed as values.

export type Schema = {
  type?: string;
  format?: string;
  description?: string;
  enum?: unknown[];
  default?: unknown;
  minimum?: number;
  maximum?: number;
};

export type Field = {
  name: string;
  about?: string | undefined;
  kind: 'text' | 'resource' | 'number' | 'truth' | 'choice' | 'json';
  choices: string[];
  /** What stands in the field at first. */
  first: string;
  must: boolean;
};

const shown = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value));

function kind(schema: Schema): Field['kind'] {
  if (schema.enum) return 'choice';
  if (schema.type === 'boolean') return 'truth';
  if (schema.type === 'integer' || schema.type === 'number') return 'number';
  if (schema.type === 'string') return schema.format === 'resource' ? 'resource' : 'text';
  return 'json';
}

/** One field for each input; what another job had stands in it at first, else the default. */
export function fields(
  inputs: Record<string, Schema>,
  before: Record<string, unknown> = {},
): Field[] {
  return Object.entries(inputs).map(([name, schema]) => {
    const first = name in before ? before[name] : schema.default;
    return {
      name,
      about: schema.description,
      kind: kind(schema),
      choices: kind(schema) === 'truth' ? ['true', 'false'] : (schema.enum ?? []).map(shown),
      first: first === undefined || first === null ? '' : shown(first),
      must: !('default' in schema),
    };
  });
}

type About = { resource: string; labels: Record<string, string> };

/** What an alert says about inputs: its resource where one is wanted, a label where an input is called like it. */
export function fromAlert(inputs: Record<string, Schema>, alert: About): Record<string, unknown> {
  const said = Object.entries(inputs).flatMap(([name, schema]): [string, unknown][] => {
    if (kind(schema) === 'resource') return [[name, alert.resource]];
    const label = alert.labels[name];
    return label === undefined ? [] : [[name, label]];
  });
  return Object.fromEntries(said);
}

/** What a refusal says about one field, by its name. */
export const about = (name: string, error: Error | null): string | undefined =>
  error?.message.includes(`\`${name}\``) ? error.message : undefined;

/** What was typed as inputs; what was left empty is left out, so that the default stands. */
export function given(all: Field[], typed: Record<string, string>): Record<string, unknown> {
  const value = (field: Field, text: string): unknown => {
    if (field.kind === 'text' || field.kind === 'resource') return text;
    try {
      return JSON.parse(text);
    } catch {
      return text;
    }
  };
  const entries = all
    .map((field) => [field, (typed[field.name] ?? field.first).trim()] as const)
    .filter(([, text]) => text !== '')
    .map(([field, text]) => [field.name, value(field, text)]);
  return Object.fromEntries(entries);
}
