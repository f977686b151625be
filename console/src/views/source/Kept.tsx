// Payloads of a source that are kept, since they could not be read or it does not say yet how: why, and reading them
// again after a mending.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { retryUnreadable, unreadable } from '../../api/client';
import { Button, Empty, Failed, Json, Panel, Unanswered } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Time } from '../../ui/Time';
import { some } from '../../ui/words';

export function Kept({ source, all }: { source: string; all: number }) {
  const may = useMay('author');
  const queries = useQueryClient();
  const [acting, setActing] = useState(false);
  const found = useQuery({ queryKey: ['unreadable', source], queryFn: () => unreadable(source) });
  const again = useMutation({
    // A hundred at a time, until all of them were tried.
    mutationFn: async () => {
      const sum = { read: 0, alerts: 0, recorded: 0, still: 0 };
      let after: number | undefined;
      do {
        const part = await retryUnreadable(source, acting, after);
        sum.read += part.read;
        sum.alerts += part.alerts;
        sum.recorded += part.recorded_only ?? 0;
        sum.still += part.still.length;
        after = part.next ?? undefined;
      } while (after !== undefined);
      return sum;
    },
    onSettled: () => {
      queries.invalidateQueries({ queryKey: ['unreadable'] });
      queries.invalidateQueries({ queryKey: ['suggestion', source] });
      queries.invalidateQueries({ queryKey: ['tested', source] });
      return queries.invalidateQueries({ queryKey: ['definitions'] });
    },
  });
  const items = found.data?.items ?? [];
  return (
    <Panel
      title="Kept until it can be read"
      aside={items.length < all ? `the newest ${items.length} of ${all}` : items.length}
    >
      <Unanswered question={found} />
      {again.error && <Failed error={again.error} />}
      {again.data && (
        <p role="status" className="pb-2">
          {some(again.data.read, 'payload')} could be read now, with{' '}
          {some(again.data.alerts, 'alert')}
          {again.data.recorded > 0 && ` (${again.data.recorded} of them old and recorded alone)`};{' '}
          {again.data.still} still cannot be read.
        </p>
      )}
      {found.data && items.length === 0 && <Empty>Everything that came could be read.</Empty>}
      {items.length > 0 &&
        (may ? (
          <div className="flex flex-wrap items-center gap-3">
            <Button disabled={again.isPending} onClick={() => again.mutate()}>
              {again.isPending ? 'Reading' : 'Read them again'}
            </Button>
            <label className="flex items-center gap-1.5 text-[12.5px] text-ink-2">
              <input
                type="checkbox"
                checked={acting}
                onChange={(event) => setActing(event.target.checked)}
              />
              rules decide about what is older than 15 minutes, too
            </label>
          </div>
        ) : (
          <Needs least="author">Reading them again</Needs>
        ))}
      {items.map((item) => (
        <details key={item.id} className="border-line border-t py-1.5 first-of-type:mt-2">
          <summary className="cursor-pointer text-[13px]">
            <Time at={item.received} />{' '}
            <span className={item.caught ? 'text-ink-2' : 'text-bad'}>{item.reason}</span>
          </summary>
          {item.base64 && (
            <p className="text-[12.5px] text-ink-2">In base64, since it is no text.</p>
          )}
          <Json value={item.payload} of="the payload" />
          {item.is_cut && (
            <a href={`/api/v1/unreadable/${item.id}`} className="text-[12.5px] text-sea underline">
              All of it
            </a>
          )}
          {item.beside != null && <Json value={item.beside} of="what came beside it" />}
        </details>
      ))}
    </Panel>
  );
}
