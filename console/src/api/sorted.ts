// A list in another order than that of time: its newest rows, as they stood when they were asked for.
import { useQuery } from '@tanstack/react-query';
import type { ListOf } from './held';

/** How many rows are sorted at most. */
export const MOST_SORTED = 2000;

export type Newest<T> = { items: T[]; more: boolean };

/** All of a list, or the newest rows of it. */
export async function newest<T>(ask: ListOf<T>['ask'], most = MOST_SORTED): Promise<Newest<T>> {
  const items: T[] = [];
  let after: number | undefined;
  for (;;) {
    const page = await ask(after);
    items.push(...page.items);
    if (page.bounded || items.length >= most) return { items, more: page.next != null };
    if (page.next == null) return { items, more: false };
    after = Number(page.next);
  }
}

/** Kept until it is asked for anew: rows do not change places while somebody reads them. */
export const useNewest = <T>({ key, ask }: ListOf<T>) =>
  useQuery({
    queryKey: [`${key[0]}-sorted`, ...key.slice(1)],
    queryFn: () => newest(ask),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    refetchOnReconnect: false,
    refetchOnWindowFocus: false,
  });
