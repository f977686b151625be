// A list that holds still while it is read: the newest page as it stands now, or pages below a handle that stays. What
// comes meanwhile is counted, and shown when it is asked for.
import { useQueries, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { useLocation } from 'react-router';

export type Page<T> = { items: T[]; next?: string | null; bounded?: boolean };

/** Where a page begins, and how much is on it. */
type Stretch = { after: number; count: number; next: number | undefined; bounded: boolean };
type Held = { first: number; pages: Stretch[] };
type Place = { held: Held | undefined; offset: number };

/** A page as it was first seen: what does not belong to it any more stays where it was. */
type Kept<T> = Page<T> & { gone: Set<number> };

/** Where somebody was in a list, by the entry of the browser's history. */
const places = new Map<string, Place>();
const MOST_PLACES = 100;
const LASTS = 15 * 60_000;

export type ListOf<T> = {
  /** The first part is the kind of thing, whose changes are followed. */
  key: [string, ...unknown[]];
  ask: (after?: number) => Promise<Page<T>>;
  handle: (item: T) => number;
};

const stretch = <T>(after: number, page: Page<T>): Stretch => ({
  after,
  count: page.items.length,
  next: page.next ? Number(page.next) : undefined,
  bounded: page.bounded ?? false,
});

export function useHeldList<T>({ key, ask, handle }: ListOf<T>) {
  const queries = useQueryClient();
  const entry = `${useLocation().key} ${JSON.stringify(key)}`;
  const before = places.get(entry);
  const [held, setHeld] = useState(before?.held);
  const [seen, setSeen] = useState<[number, number]>([0, 0]);
  const [asking, setAsking] = useState(false);
  const [failed, setFailed] = useState<Error>();
  const place = useRef<Place>({ held: before?.held, offset: before?.offset ?? 0 });
  place.current.held = held;
  useEffect(() => {
    const now = place.current;
    return () => {
      places.delete(entry);
      places.set(entry, { ...now });
      const oldest = places.keys().next().value;
      if (places.size > MOST_PLACES && oldest !== undefined) places.delete(oldest);
    };
  }, [entry]);

  const head = useQuery({ queryKey: key, queryFn: () => ask() });
  const pageKey = (after: number) => [`${key[0]}-pages`, ...key.slice(1), after];
  const kept = (page: Page<T>): Kept<T> => ({ ...page, gone: new Set() });
  // Rows keep their places: those that are asked for anew and do not come again are marked.
  const merged = (old: unknown, fresh: unknown): unknown => {
    if (!old) return fresh;
    const [was, is] = [old as Kept<T>, fresh as Kept<T>];
    const now = new Map(is.items.map((item) => [handle(item), item]));
    const gone = new Set(was.items.map(handle).filter((h) => !now.has(h)));
    return { ...was, items: was.items.map((item) => now.get(handle(item)) ?? item), gone };
  };
  const query = (after: number) => ({
    queryKey: pageKey(after),
    queryFn: async () => kept(await ask(after)),
    structuralSharing: merged,
    gcTime: LASTS,
  });

  const starts: number[] = [];
  let count = 0;
  for (const page of held?.pages ?? []) {
    starts.push(count);
    count += page.count;
  }
  const pageOf = (index: number) => starts.findLastIndex((start) => start <= index);
  const [from, to] = [pageOf(seen[0]), pageOf(seen[1])];
  const near = (held?.pages ?? [])
    .map((page, i) => ({ page, i }))
    .filter(({ i }) => i >= from && i <= to);
  const pages = useQueries({ queries: near.map(({ page }) => query(page.after)) });
  const byPage = new Map(near.map(({ i }, n) => [i, pages[n]?.data as Kept<T> | undefined]));

  const newest = head.data?.items ?? [];
  const item = (index: number): { item: T; gone: boolean } | undefined => {
    if (!held) return newest[index] && { item: newest[index], gone: false };
    const page = pageOf(index);
    const data = byPage.get(page);
    const found = data?.items[index - (starts[page] ?? 0)];
    return found && { item: found, gone: data?.gone.has(handle(found)) ?? false };
  };

  const hold = (): Held | undefined => {
    if (held || !head.data) return held;
    const first = newest[0] ? handle(newest[0]) : 0;
    queries.setQueryData(pageKey(first + 1), kept(head.data));
    const now = { first, pages: [stretch(first + 1, head.data)] };
    setHeld(now);
    return now;
  };
  const last = held ? held.pages.at(-1) : head.data && stretch(0, head.data);
  const more = async () => {
    const now = hold();
    const next = now?.pages.at(-1)?.next;
    if (!now || next === undefined || asking) return;
    setAsking(true);
    setFailed(undefined);
    try {
      const page = await queries.fetchQuery(query(next));
      // Of what was let go meanwhile nothing is added.
      setHeld((is) =>
        is?.first === now.first ? { ...is, pages: [...is.pages, stretch(next, page)] } : is,
      );
    } catch (error) {
      setFailed(error as Error);
    } finally {
      setAsking(false);
    }
  };
  const fresh = held ? newest.filter((one) => handle(one) > held.first).length : 0;
  return {
    /** The question for the newest page. */
    head,
    count: held ? count : newest.length,
    item,
    /** How many came since the list is held; whether there may be more of them. */
    fresh,
    freshMore: fresh > 0 && fresh === newest.length && head.data?.next != null,
    held: held !== undefined,
    hold,
    release: () => setHeld(undefined),
    hasMore: last?.next !== undefined,
    /** Whether a question ended before the list did. */
    stopped: last?.bounded ?? false,
    more,
    asking,
    failed,
    see: (first: number, behind: number) =>
      setSeen((was) => (was[0] === first && was[1] === behind ? was : [first, behind])),
    /** Where the list was scrolled to when it was left, and how that is kept. */
    offset: place.current.offset,
    keepOffset: (offset: number) => {
      place.current.offset = offset;
    },
  };
}
