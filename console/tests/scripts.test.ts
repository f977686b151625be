import { expect, test } from 'vitest';
import { definitionLanguage, languageOf } from '../src/views/definition/scripts';

const text = (interpreter: string, code: string) => `runbook: a
steps:
  - id: find
    script: ${interpreter}
    code: |
      ${code}
    looks: true
  - id: other
    text: |
      import that
`;

/** What a word of the text is read as. */
function kind(of: string, word: string): string {
  const at = of.indexOf(word) + 1;
  return definitionLanguage.parser.parse(of).resolveInner(at, 1).name;
}

test('code has the kinds of its language, by the interpreter beside it', () => {
  expect(kind(text('python3', 'import json'), 'import')).toBe('keyword');
  expect(kind(text('sh', 'if true; then echo a; fi'), 'then')).toBe('keyword');
  expect(kind(text("'perl'", 'my $x = 1; # why'), '# why')).toBe('comment');
  expect(kind(text('python3', 'pass'), 'pass\n    looks')).toBe('keyword');
});

test('what is no code, or of a language that is not known, is text', () => {
  expect(kind(text('python3', 'import json'), 'import that')).toBe('BlockLiteralContent');
  expect(kind(text('lua', 'import json'), 'import json')).toBe('BlockLiteralContent');
  expect(kind(text('python3', 'import json'), 'looks')).toBe('Literal');
});

test('interpreters are known by their names, whatever their version', () => {
  for (const name of ['sh', 'bash', 'dash']) expect(languageOf(name)).toBeDefined();
  expect(languageOf('python3.12')).toBe(languageOf('python'));
  for (const name of ['', 'lua', 'shutdown']) expect(languageOf(name)).toBeUndefined();
});
