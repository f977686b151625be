// What came of a runbook: in numbers, and its newest jobs as a strip, each as high as it took long.
import { Link } from 'react-router';
import type { DefinitionDetail, JobItem } from '../../api/client';
import { Facts, Panel } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Exact } from '../../ui/Time';
import { rough } from '../../ui/time';
import { JobRows } from '../JobRows';
import { ended, took } from './results';

const COLORS = { good: 'var(--good)', bad: 'var(--sev-5)', plain: 'var(--ink-3)' };
const HIGH = 44;

export function Results({ found }: { found: DefinitionDetail }) {
  const { item, jobs } = found;
  const times = jobs.flatMap((job) => took(job) ?? []).sort((a, b) => a - b);
  const middle = times[Math.floor(times.length / 2)];
  return (
    <Panel title="Results">
      <Facts
        rows={[
          ['jobs', `${item.used.jobs}, of which ${item.used.confirmed} helped`],
          ['usually takes', middle === undefined ? 'not known yet' : rough(middle)],
          [
            'published',
            <span key="p">
              <Exact at={item.published_at} /> by {shown(item.published_by)}
            </span>,
          ],
        ]}
      />
      {jobs.length > 1 && <Strip jobs={jobs} longest={times.at(-1) ?? 1} />}
      <div className="mt-2">
        <JobRows jobs={jobs.slice(0, 6)} within />
      </div>
    </Panel>
  );
}

function Strip({ jobs, longest }: { jobs: JobItem[]; longest: number }) {
  return (
    <ul
      className="mt-3 flex h-12 items-end gap-1 border-line border-b"
      aria-label={`The newest ${jobs.length} jobs`}
    >
      {[...jobs].reverse().map((job) => {
        const [tone, word] = ended(job);
        const long = took(job);
        const said = `job ${job.id} on ${job.target}: ${word}${long === null ? '' : ` after ${rough(long)}`}`;
        return (
          <li key={job.id} className="flex h-full w-4 items-end">
            <Link
              to={`/jobs/${job.id}`}
              title={said}
              aria-label={said}
              className="flex h-full w-full items-end"
            >
              <i
                className="block w-full rounded-t-[2px]"
                style={{
                  height: Math.max(5, ((long ?? longest) / Math.max(1, longest)) * HIGH),
                  background: COLORS[tone],
                  opacity: tone === 'plain' ? 0.5 : 1,
                }}
              />
            </Link>
          </li>
        );
      })}
    </ul>
  );
}
