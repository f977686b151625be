// The text that is edited. A version that is published meanwhile replaces it unless it was changed here; what was changed is kept in this
// browser until it is published or undone, and offered again to whoever comes back.
import { useCallback, useEffect, useRef, useState } from 'react';
import type { DefinitionDetail } from '../../api/client';

/** What a text was begun from. */
export type Base = { version: number; text: string };

/** A text that was not published. */
export type Kept = { text: string; base: Base | undefined; at: string };

/** Whether two texts differ in nothing but how they end. */
export const same = (a: string, b: string) => a.trimEnd() === b.trimEnd();

const place = (kind: string, name: string | undefined) => `arvok-draft ${kind} ${name ?? '(new)'}`;

function read(key: string): Kept | undefined {
  try {
    const kept = JSON.parse(localStorage.getItem(key) ?? 'null') as Kept | null;
    return typeof kept?.text === 'string' ? kept : undefined;
  } catch {
    return undefined;
  }
}

function write(key: string, kept: Kept | undefined) {
  try {
    if (kept) localStorage.setItem(key, JSON.stringify(kept));
    else localStorage.removeItem(key);
  } catch {
    // A browser that keeps nothing, or has no room: leaving asks all the same.
  }
}

const of = (found: DefinitionDetail | undefined): Base | undefined =>
  found && { version: found.item.version, text: found.text };

const PAUSE = 400;

export function useDraft(kind: string, found: DefinitionDetail | undefined, start: string) {
  const key = place(kind, found?.item.name);
  const [text, setText] = useState(start);
  const [base, setBase] = useState(() => of(found));
  const [offered, setOffered] = useState(() => {
    const kept = read(key);
    return kept && !same(kept.text, start) ? kept : undefined;
  });
  const shown = useRef(start);
  const now = useRef(text);
  now.current = text;
  useEffect(() => {
    const before = shown.current;
    shown.current = start;
    if (now.current !== before && !same(now.current, start)) return;
    setText(start);
    setBase(of(found));
  }, [start, found]);
  const changed = !same(text, start);
  // Published as it stands, until what is published is known here as well.
  const isDone = useRef(false);
  if (!changed) isDone.current = false;
  useEffect(() => {
    // What is offered stays until somebody has said what becomes of it.
    if (offered || isDone.current) return;
    const kept = changed ? { text, base, at: new Date().toISOString() } : undefined;
    const leaves = () => {
      if (!isDone.current) write(key, kept);
    };
    const timer = setTimeout(() => leaves(), PAUSE);
    addEventListener('pagehide', leaves);
    return () => {
      clearTimeout(timer);
      removeEventListener('pagehide', leaves);
      leaves();
    };
  }, [key, text, base, changed, offered]);
  const takeUp = () => {
    if (!offered) return;
    setText(offered.text);
    setBase(offered.base ?? of(found));
    setOffered(undefined);
  };
  const discard = () => {
    write(key, undefined);
    setOffered(undefined);
  };
  /** It is published: nothing is left to be kept. */
  const done = useCallback(() => {
    isDone.current = true;
    write(key, undefined);
  }, [key]);
  return { text, setText, base, changed, isDone, offered, takeUp, discard, done };
}
