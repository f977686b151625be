// The order of a table's rows: that of the head which was pressed, kept in the address.
import { useSearchParams } from 'react-router';

export type Sorted = { by: string; down: boolean } | undefined;

/** What a list is sorted by, and what pressing a head does: up, down, and as before. */
export function useSort() {
  const [params, setParams] = useSearchParams();
  const asked = params.get('sort');
  const sorted: Sorted = asked
    ? { by: asked.replace(/^-/, ''), down: asked.startsWith('-') }
    : undefined;
  const onSort = (by?: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (by === undefined || asked === `-${by}`) next.delete('sort');
        else next.set('sort', asked === by ? `-${by}` : by);
        return next;
      },
      { replace: true },
    );
  return { sorted, onSort };
}

type Key = string | number | null | undefined;

/** Rows by what each is sorted by: numbers before texts, what has none at the end either way. */
export function inOrder<T>(items: readonly T[], by: (item: T) => Key, down: boolean): T[] {
  const none = (key: Key) => key === null || key === undefined || key === '';
  const order = (x: Key, y: Key) => {
    if (typeof x === 'number' && typeof y === 'number') return x - y;
    if (typeof x !== typeof y) return typeof x === 'number' ? -1 : 1;
    return String(x).localeCompare(String(y), 'en', { numeric: true });
  };
  return items
    .map((item) => ({ item, key: by(item) }))
    .sort((a, b) => {
      if (none(a.key) || none(b.key)) return Number(none(a.key)) - Number(none(b.key));
      return down ? order(b.key, a.key) : order(a.key, b.key);
    })
    .map(({ item }) => item);
}
