// What was called by hand, as a step of a runbook.

/** A text as YAML has it: without quotes where it can be taken for nothing else. */
function word(value: unknown): string {
  if (typeof value !== 'string') return JSON.stringify(value);
  const taken = /^(true|false|null|yes|no|on|off)$/i.test(value);
  return /^[A-Za-z][\w./-]*$/.test(value) && !taken ? value : JSON.stringify(value);
}

/** The step of a call: its id is the last word of the operation's name. */
export function asStep(via: string, operation: string, give: Record<string, unknown>): string {
  const last = operation.split(/[.\s]/).at(-1) ?? operation;
  const id = last
    .replace(/[^A-Za-z0-9_-]/g, '_')
    .replace(/([a-z])([A-Z])/g, '$1_$2')
    .toLowerCase();
  const lines = [`- id: ${id}`, `  call: ${word(operation)}`, `  via: ${via}`];
  const given = Object.entries(give).map(([name, value]) => `${word(name)}: ${word(value)}`);
  if (given.length > 0) lines.push(`  give: { ${given.join(', ')} }`);
  return `${lines.join('\n')}\n`;
}
