// The code of scripts within a definition, in the colours of its language: `code: |` of a step, by the
// interpreter that stands beside it as `script`.
import { yamlLanguage } from '@codemirror/lang-yaml';
import {
  HighlightStyle,
  LanguageSupport,
  StreamLanguage,
  syntaxHighlighting,
} from '@codemirror/language';
import { perl } from '@codemirror/legacy-modes/mode/perl';
import { python } from '@codemirror/legacy-modes/mode/python';
import { shell } from '@codemirror/legacy-modes/mode/shell';
import { type Input, parseMixed, type SyntaxNode } from '@lezer/common';
import { tags } from '@lezer/highlight';

const LANGUAGES = {
  perl: StreamLanguage.define(perl),
  python: StreamLanguage.define(python),
  sh: StreamLanguage.define(shell),
};

/** The language of an interpreter, such as `python3` or `bash`. */
export function languageOf(interpreter: string): StreamLanguage<unknown> | undefined {
  const name = interpreter.replace(/[\d.]+$/, '');
  if (['sh', 'bash', 'dash', 'zsh', 'ksh'].includes(name)) return LANGUAGES.sh;
  if (name === 'python' || name === 'perl') return LANGUAGES[name];
  return undefined;
}

/** What a key of a mapping has beside it. */
function beside(pair: SyntaxNode, key: string, input: Input): string | undefined {
  const text = (node: SyntaxNode) => input.read(node.from, node.to);
  const others = pair.parent?.getChildren('Pair') ?? [];
  const other = others.find((one) => {
    const its = one.getChild('Key');
    return its && text(its) === key;
  });
  const value = other?.lastChild;
  return value ? text(value).replace(/^['"]|['"]$/g, '') : undefined;
}

/** YAML, with scripts in it. */
export const definitionLanguage = yamlLanguage.configure({
  wrap: parseMixed((node, input) => {
    if (node.name !== 'BlockLiteralContent') return null;
    const pair = node.node.parent?.parent;
    const key = pair?.getChild('Key');
    if (!pair || !key || input.read(key.from, key.to) !== 'code') return null;
    const language = languageOf(beside(pair, 'script', input) ?? '');
    return language ? { parser: language.parser } : null;
  }),
});

const styles = Object.values(LANGUAGES).map((scope) =>
  HighlightStyle.define(
    [
      { tag: [tags.keyword, tags.definitionKeyword], color: 'var(--sea)' },
      { tag: [tags.string, tags.special(tags.string)], color: 'var(--ink-2)' },
      { tag: tags.comment, color: 'var(--ink-3)' },
    ],
    { scope },
  ),
);

/** The language of definitions with the colours of what scripts in them are written in. */
export const definition = () =>
  new LanguageSupport(
    definitionLanguage,
    styles.map((style) => syntaxHighlighting(style)),
  );
