// What is being done, and what was.
import { useSearchParams } from 'react-router';
import { type JobFilter, type JobTimelineMark, jobs, jobTimeline } from '../api/client';
import { Chips, Filter, Narrow, Trials } from '../ui/filters';
import { LongList } from '../ui/LongList';
import { Header } from '../ui/parts';
import { SavedViews } from '../ui/SavedViews';
import { type OverTime, Timeline } from '../ui/Timeline';
import { JOBS } from './JobRows';

const STATES = [
  'queued,running,waiting,paused',
  'succeeded',
  'failed,refused,expired,unsure',
  'cancelled',
] as const;

const OVER_TIME: OverTime<JobTimelineMark> = {
  what: 'Jobs',
  queryKey: ['timeline', 'jobs'],
  ask: jobTimeline,
  layers: [
    { colour: 'var(--good)', means: 'confirmed', count: (m) => m.confirmed },
    { colour: 'var(--sea)', means: 'under way', count: (m) => m.under_way },
    { colour: 'var(--ink-3)', means: 'without proof', count: (m) => m.unproved },
    { colour: 'var(--bad)', means: 'failed or unsure', count: (m) => m.failed },
  ],
};

/** What each choice of states is called. */
const CALLED = {
  'queued,running,waiting,paused': 'not over',
  'failed,refused,expired,unsure': 'ended badly',
};
const EFFECTS = ['confirmed', 'unconfirmed', 'not checked'] as const;
const NARROWED = ['runbook', 'rule', 'target', 'by'] as const;
const CHOSEN = ['state', 'effect', 'trial'] as const;
const KNOWN = [...NARROWED, ...CHOSEN, 'held_by', 'since', 'until'] as const;

export function Component() {
  const [params] = useSearchParams();
  const filter: JobFilter = {};
  for (const key of KNOWN) {
    const value = params.get(key);
    if (key === 'trial') {
      if (value) filter.trial = value === 'true';
    } else if (value) filter[key] = value;
  }
  return (
    <>
      <Header
        title="Jobs"
        right={
          <>
            <Filter name="state" label="State" options={STATES} called={CALLED} />
            <Filter name="effect" label="Effect" options={EFFECTS} />
            <Trials />
            <Narrow by={NARROWED} />
            <SavedViews />
          </>
        }
      />
      <Chips known={KNOWN} chosen={CHOSEN} />
      <Timeline of={OVER_TIME} />
      <LongList
        of={{ key: ['jobs', filter], ask: (after) => jobs(filter, after), handle: (job) => job.id }}
        look={JOBS}
        label="Jobs, newest first"
        what="job"
        none={
          Object.keys(filter).length > 0 ? 'No job is like that.' : 'No job was dispatched yet.'
        }
      />
    </>
  );
}
