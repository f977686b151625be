// What runs of a runbook remember of their targets, for those that come after them, and what was before.
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { forgetMemory, type MemoryItem, memory } from '../../api/client';
import { Panel } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Time } from '../../ui/Time';
import { Reason } from '../guard/Reason';

export function Remembered({ runbook }: { runbook: string }) {
  const [history, setHistory] = useState(false);
  const found = useQuery({
    queryKey: ['jobs', 'memory', runbook, history],
    queryFn: () => memory(runbook, history),
  });
  const items = found.data?.items ?? [];
  const may = useMay('author');
  if (items.length === 0) return null;
  return (
    <Panel
      title="Remembered"
      aside={
        <button
          type="button"
          className="font-semibold text-sea hover:underline"
          aria-pressed={history}
          onClick={() => setHistory(!history)}
        >
          {history ? 'What stands' : 'What was before'}
        </button>
      }
    >
      <ul className="flex flex-col">
        {items.map((item) => (
          <li
            key={item.id}
            className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 border-line border-t py-2 first:border-t-0"
          >
            <span className="truncate font-semibold">{item.target}</span>
            <span className="text-ink-3">
              <Time at={item.at} />
              {' by '}
              <Link to={`/jobs/${item.job}?step=${item.step}`} className="text-sea hover:underline">
                job {item.job}
              </Link>
            </span>
            <code className="col-span-2 break-words text-ink-2">
              {Object.entries(item.remembered as Record<string, unknown>)
                .map(([name, value]) => `${name} = ${JSON.stringify(value)}`)
                .join(', ')}
            </code>
            {may && !history && <Forget item={item} />}
          </li>
        ))}
      </ul>
    </Panel>
  );
}

/** Has the next run find what the first did. */
function Forget({ item }: { item: MemoryItem }) {
  const queries = useQueryClient();
  const [why, setWhy] = useState('');
  const { runbook, target } = item;
  return (
    <span className="pt-1">
      <Sure
        ask="Forget…"
        title={`Forget what runs remember of ${target}?`}
        act="Forget it"
        disabled={!why.trim()}
        onAct={async () => {
          await forgetMemory({ runbook, target, reason: why.trim() });
          await queries.invalidateQueries({ queryKey: ['jobs'] });
        }}
      >
        <p>The next run finds what the first did. It stands in the record.</p>
        <Reason value={why} onType={setWhy} />
      </Sure>
    </span>
  );
}
