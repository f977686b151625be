// The text that is edited: a version that is published meanwhile replaces it, unless it was changed here.
import { useEffect, useRef, useState } from 'react';

export function useText(start: string): [string, (text: string) => void] {
  const [text, setText] = useState(start);
  const shown = useRef(start);
  useEffect(() => {
    const before = shown.current;
    shown.current = start;
    setText((now) => (now === before ? start : now));
  }, [start]);
  return [text, setText];
}
