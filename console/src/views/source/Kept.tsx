// Payloads of a source that could not be read: why, and reading them again after a mending.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { retryUnreadable, unreadable } from '../../api/client';
import { Button, Empty, Failed, Json, Panel, Unanswered } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Time } from '../../ui/Time';
import { some } from '../../ui/words';

export function Kept({ source, all }: { source: string; all: number }) {
  const may = useMay('author');
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ['unreadable', source], queryFn: () => unreadable(source) });
  const again = useMutation({
    // A hundred at a time, until all of them were tried.
    mutationFn: async () => {
      const sum = { read: 0, alerts: 0, still: 0 };
      let after: number | undefined;
      do {
        const part = await retryUnreadable(source, after);
        sum.read += part.read;
        sum.alerts += part.alerts;
        sum.still += part.still.length;
        after = part.next ?? undefined;
      } while (after !== undefined);
      return sum;
    },
    onSettled: () => {
      queries.invalidateQueries({ queryKey: ['unreadable'] });
      return queries.invalidateQueries({ queryKey: ['definitions'] });
    },
  });
  const items = found.data?.items ?? [];
  return (
    <Panel
      title="Could not be read"
      aside={items.length < all ? `the newest ${items.length} of ${all}` : items.length}
    >
      <Unanswered question={found} />
      {again.error && <Failed error={again.error} />}
      {again.data && (
        <p role="status" className="pb-2">
          {some(again.data.read, 'payload')} could be read now, with{' '}
          {some(again.data.alerts, 'alert')}; {again.data.still} still cannot be read.
        </p>
      )}
      {found.data && items.length === 0 && <Empty>Everything that came could be read.</Empty>}
      {items.length > 0 &&
        (may ? (
          <Button disabled={again.isPending} onClick={() => again.mutate()}>
            {again.isPending ? 'Reading' : 'Read them again'}
          </Button>
        ) : (
          <Needs least="author">Reading them again</Needs>
        ))}
      {items.map((item) => (
        <details key={item.id} className="border-line border-t py-1.5 first-of-type:mt-2">
          <summary className="cursor-pointer text-[13px]">
            <Time at={item.received} /> <span className="text-bad">{item.reason}</span>
          </summary>
          <Json value={item.payload} of="the payload" />
        </details>
      ))}
    </Panel>
  );
}
