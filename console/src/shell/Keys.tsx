// Keys that do something wherever one is: to a view by two letters, to the page of keys by a question mark, to the search of a
// list by a slash.
import { useEffect } from 'react';
import { useNavigate } from 'react-router';

/** Behind `g`: where each letter leads. */
export const LETTERS: Record<string, [string, string]> = {
  w: ['Watch', '/'],
  m: ['Alarms', '/alarms'],
  j: ['Jobs', '/jobs'],
  p: ['Proposals', '/proposals'],
  a: ['Alerts', '/alerts'],
  s: ['Sources', '/sources'],
  r: ['Rules', '/rules'],
  b: ['Runbooks', '/runbooks'],
  c: ['Connections', '/connections'],
};

/** How long the second letter may take, in milliseconds. */
const SECOND = 1200;

/** Whether somebody types, or something stands before the page. */
const isElsewhere = (target: EventTarget | null) =>
  document.querySelector('[role=dialog], [role=alertdialog], [role=menu], [role=listbox]') !==
    null ||
  (target instanceof HTMLElement &&
    target.closest('input, textarea, select, [contenteditable=true], [role=combobox]') !== null);

export function Keys() {
  const go = useNavigate();
  useEffect(() => {
    let begun = 0;
    const pressed = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || isElsewhere(event.target)) return;
      const second = Date.now() - begun < SECOND ? LETTERS[event.key] : undefined;
      begun = event.key === 'g' ? Date.now() : 0;
      if (second) go(second[1]);
      else if (event.key === '?') go('/keys');
      else if (event.key === '/')
        document.querySelector<HTMLElement>('main input[type=search]')?.focus();
      else return;
      event.preventDefault();
    };
    addEventListener('keydown', pressed);
    return () => removeEventListener('keydown', pressed);
  }, [go]);
  return null;
}
