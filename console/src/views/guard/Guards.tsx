// All guards, with how each stands and what it holds.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { guards } from '../../api/client';
import { Empty, Panel, Tag, Unanswered } from '../../ui/parts';
import { some } from '../../ui/words';
import { Circuits } from './Circuits';
import { Lines } from './Lines';

/** How often guards are asked anew: what they count changes by itself. */
const PACE = 5_000;

export function Guards() {
  const found = useQuery({ queryKey: ['guards'], queryFn: guards, refetchInterval: PACE });
  return (
    <Panel title="Guards" aside="what all jobs are held to">
      <Unanswered question={found} />
      {found.data?.items.map((guard) => (
        <section
          key={guard.name}
          className="border-line border-t py-2 first-of-type:border-t-0"
          aria-label={`Guard ${guard.name}`}
        >
          <p className="flex flex-wrap items-baseline gap-x-3 pb-1">
            <Link to={`/guards/${guard.name}`} className="font-semibold hover:underline">
              {guard.name}
            </Link>
            <span className="min-w-0 break-words text-[13px] text-ink-2">{guard.concerns}</span>
            {guard.holds > 0 && (
              <Link to={`/jobs?held_by=${guard.name}`} className="ml-auto hover:underline">
                <Tag tone="warn">holds {some(guard.holds, 'job')}</Tag>
              </Link>
            )}
          </p>
          <Lines guard={guard} />
          <Circuits guard={guard} />
        </section>
      ))}
      {found.data?.items.length === 0 && (
        <Empty>
          There are none. A <code>guard:</code> document limits how much jobs may do at once, and
          how often.
        </Empty>
      )}
    </Panel>
  );
}
