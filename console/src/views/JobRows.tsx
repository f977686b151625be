// Jobs as rows of a list, wherever there is one.
import { Link } from 'react-router';
import type { JobItem } from '../api/client';
import { Empty, JobTag, Time } from '../ui/parts';

export function JobRows({ jobs }: { jobs: JobItem[] }) {
  if (jobs.length === 0) return <Empty>No job.</Empty>;
  return (
    <div className="@container">
      {jobs.map((job) => (
        <Link
          key={job.id}
          to={`/jobs/${job.id}`}
          className="grid grid-cols-[44px_1fr_auto] items-center gap-3 border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk @3xl:grid-cols-[44px_76px_minmax(0,1.2fr)_minmax(0,1fr)_80px_110px]"
        >
          <b className="font-semibold text-ink-2">{job.id}</b>
          <span className="hidden text-ink-2 @3xl:block">
            <Time at={job.created_at} />
          </span>
          <span className="min-w-0">
            <span className="block font-semibold">{job.runbook}</span>
            <span className="mono block truncate text-ink-2">{job.target}</span>
          </span>
          <span className="hidden truncate text-[13px] text-ink-2 @3xl:block">
            {job.effect && job.doing === job.effect ? `for rule ${job.rule}` : job.doing}
          </span>
          <span className="hidden text-ink-2 @3xl:block">
            {job.started_at && <Time at={job.started_at} until={job.finished_at ?? null} />}
          </span>
          <span className="text-right">
            <JobTag state={job.state} effect={job.effect} />
          </span>
        </Link>
      ))}
    </div>
  );
}
