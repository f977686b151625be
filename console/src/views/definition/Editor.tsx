// The text of a definition with completion, and problems where they belong. Loaded when needed.
import { autocompletion, closeBrackets, completionKeymap } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import {
  bracketMatching,
  HighlightStyle,
  indentUnit,
  syntaxHighlighting,
} from '@codemirror/language';
import { type Diagnostic, setDiagnostics } from '@codemirror/lint';
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search';
import { EditorState, type Text } from '@codemirror/state';
import { EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { useEffect, useRef } from 'react';
import type { FileProblem } from '../../api/client';
import { complete, type Known } from './complete';
import { definition, definitionLanguage } from './scripts';

const look = EditorView.theme({
  '&': { backgroundColor: 'var(--panel)', color: 'var(--ink)', fontSize: '12.5px' },
  '&.cm-focused': { outline: '1px solid var(--sea)' },
  '.cm-content': {
    fontFamily: 'var(--font-mono)',
    letterSpacing: '-0.3px',
    caretColor: 'var(--sea)',
  },
  '.cm-scroller': { fontVariantLigatures: 'none', lineHeight: '1.62' },
  '.cm-gutters': { backgroundColor: 'var(--panel)', color: 'var(--ink-3)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--sunk)' },
  '.cm-cursor': { borderLeftColor: 'var(--sea)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'var(--sea-soft)',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--panel)',
    border: '1px solid var(--line)',
    color: 'var(--ink)',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': {
    backgroundColor: 'var(--sea-soft)',
    color: 'var(--sea)',
  },
  '.cm-completionDetail': { color: 'var(--ink-3)', fontStyle: 'normal' },
  '.cm-panels': { backgroundColor: 'var(--sunk)', color: 'var(--ink)', borderColor: 'var(--line)' },
  '.cm-textfield, .cm-button': {
    backgroundColor: 'var(--panel)',
    backgroundImage: 'none',
    border: '1px solid var(--line)',
    color: 'var(--ink)',
  },
  '.cm-searchMatch': { backgroundColor: 'var(--warn-soft)' },
  '.cm-selectionMatch': { backgroundColor: 'var(--sea-soft)' },
  '.cm-diagnostic': { fontFamily: 'var(--font-sans)', whiteSpace: 'pre-wrap', maxWidth: '56ch' },
});

const ink = HighlightStyle.define(
  [
    {
      tag: [tags.propertyName, tags.definition(tags.propertyName)],
      color: 'var(--sea)',
      fontWeight: '600',
    },
    { tag: tags.comment, color: 'var(--ink-3)' },
    {
      tag: [tags.separator, tags.squareBracket, tags.brace, tags.punctuation],
      color: 'var(--ink-2)',
    },
  ],
  // What scripts are written in has colours of its own.
  { scope: definitionLanguage },
);

/** The place of a problem in the text as it is now. */
function diagnostic(doc: Text, problem: FileProblem): Diagnostic {
  const line = doc.line(Math.min(Math.max(problem.line, 1), doc.lines));
  const from = Math.min(line.from + problem.column - 1, line.to);
  const to = Math.min(Math.max(from + problem.length, from + 1), Math.max(line.to, from));
  return { from, to, severity: problem.warning ? 'warning' : 'error', message: problem.message };
}

type Props = {
  label: string;
  text: string;
  onChange: (text: string) => void;
  /** What Ctrl S does. */
  onSave?: () => void;
  problems: FileProblem[];
  known: Known | undefined;
  readOnly?: boolean;
  /** A line that is to be shown, each time anew. */
  line?: { at: number };
};

export default function Editor({
  label,
  text,
  onChange,
  onSave,
  problems,
  known,
  readOnly,
  line,
}: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const words = useRef(known);
  words.current = known;
  const changed = useRef(onChange);
  changed.current = onChange;
  const first = useRef(text);
  const saved = useRef(onSave);
  saved.current = onSave;

  useEffect(() => {
    if (!place.current) return;
    const made = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          lineNumbers(),
          history(),
          bracketMatching(),
          closeBrackets(),
          highlightActiveLine(),
          indentUnit.of('  '),
          definition(),
          look,
          syntaxHighlighting(ink),
          EditorView.lineWrapping,
          EditorState.readOnly.of(readOnly ?? false),
          EditorView.contentAttributes.of({ 'aria-label': label }),
          autocompletion({
            icons: false,
            override: [(context) => (words.current ? complete(words.current)(context) : null)],
          }),
          search({ top: true }),
          highlightSelectionMatches(),
          keymap.of([
            {
              key: 'Mod-s',
              preventDefault: true,
              run: () => {
                saved.current?.();
                return true;
              },
            },
            ...searchKeymap,
            ...completionKeymap,
            ...historyKeymap,
            ...defaultKeymap,
            indentWithTab,
          ]),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) changed.current(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, [label, readOnly]);

  useEffect(() => {
    const now = view.current;
    if (!now || !line) return;
    const { from } = now.state.doc.line(Math.min(Math.max(line.at, 1), now.state.doc.lines));
    now.dispatch({
      selection: { anchor: from },
      effects: EditorView.scrollIntoView(from, { y: 'center' }),
    });
    now.focus();
  }, [line]);

  // A text that comes from elsewhere replaces what is there.
  useEffect(() => {
    const current = view.current?.state.doc.toString();
    if (view.current && current !== text) {
      view.current.dispatch({ changes: { from: 0, to: current?.length ?? 0, insert: text } });
    }
  }, [text]);

  useEffect(() => {
    const now = view.current;
    if (now)
      now.dispatch(
        setDiagnostics(
          now.state,
          problems.map((p) => diagnostic(now.state.doc, p)),
        ),
      );
  }, [problems]);

  return <div ref={place} className="min-h-72" />;
}
