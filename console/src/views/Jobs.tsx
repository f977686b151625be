// What is being done, and what was.
import { useInfiniteQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { type JobFilter, type JobTimelineMark, jobs, jobTimeline } from '../api/client';
import { Filter } from '../ui/filters';
import { Button, Header, Unanswered } from '../ui/parts';
import { type OverTime, Timeline } from '../ui/Timeline';
import { JobRows } from './JobRows';

const STATES = [
  'queued,running,waiting,paused',
  'succeeded',
  'failed,refused,expired,unsure',
  'cancelled',
] as const;

const OVER_TIME: OverTime<JobTimelineMark> = {
  what: 'Jobs',
  queryKey: ['jobs', 'timeline'],
  ask: jobTimeline,
  layers: [
    { colour: 'var(--good)', means: 'confirmed', count: (m) => m.confirmed },
    { colour: 'var(--sea)', means: 'under way', count: (m) => m.under_way },
    { colour: 'var(--ink-3)', means: 'without proof', count: (m) => m.unproved },
    { colour: 'var(--bad)', means: 'failed or unsure', count: (m) => m.failed },
  ],
};

export function Component() {
  const [params] = useSearchParams();
  const filter: JobFilter = {};
  for (const key of ['state', 'rule', 'runbook', 'since', 'until'] as const) {
    const value = params.get(key);
    if (value) filter[key] = value;
  }
  const found = useInfiniteQuery({
    queryKey: ['jobs', filter],
    queryFn: ({ pageParam }) => jobs(filter, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
  });
  return (
    <>
      <Header title="Jobs" right={<Filter name="state" label="State" options={STATES} />}>
        {filter.rule && <span className="text-ink-2">of rule {filter.rule}</span>}
        {filter.runbook && <span className="text-ink-2">of runbook {filter.runbook}</span>}
      </Header>
      <Timeline of={OVER_TIME} />
      <Unanswered question={found} />
      {found.data && <JobRows jobs={found.data.pages.flatMap((page) => page.items)} />}
      {found.hasNextPage && (
        <Button look="quiet" disabled={found.isFetching} onClick={() => void found.fetchNextPage()}>
          Older jobs
        </Button>
      )}
    </>
  );
}
