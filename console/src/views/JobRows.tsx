// Jobs as rows of a list, wherever there is one.
import type { JobItem } from '../api/client';
import { Empty, JobTag, TrialTag } from '../ui/parts';
import { shown } from '../ui/principal';
import { type Look, Table } from '../ui/Table';
import { Time } from '../ui/Time';

const whose = (job: JobItem) =>
  job.rule
    ? `for rule ${job.rule}`
    : `launched by ${job.launched_by ? shown(job.launched_by) : 'hand'}`;
const doing = (job: JobItem) => (job.effect && job.doing === job.effect ? whose(job) : job.doing);
const took = (job: JobItem) =>
  job.started_at && <Time at={job.started_at} until={job.finished_at ?? null} />;

const lasted = (job: JobItem) =>
  job.started_at &&
  (job.finished_at ? Date.parse(job.finished_at) : Date.now()) - Date.parse(job.started_at);

const effect = (job: JobItem) => (
  <>
    <TrialTag trial={job.trial} /> <JobTag state={job.state} effect={job.effect} />
  </>
);

export const JOBS: Look<JobItem> = {
  to: (job) => `/jobs/${job.id}`,
  columns: [
    { head: 'Job', width: '52px', cell: (job) => <b>{job.id}</b>, by: (job) => job.id },
    {
      head: 'Dispatched',
      width: '80px',
      quiet: true,
      cell: (job) => <Time at={job.created_at} />,
      by: (job) => job.created_at,
    },
    {
      head: 'Runbook',
      width: 'minmax(0,0.9fr)',
      link: true,
      cell: (job) => <b>{job.runbook}</b>,
      by: (job) => job.runbook,
    },
    {
      head: 'Target',
      width: 'minmax(0,1.2fr)',
      mono: true,
      cell: (job) => job.target,
      by: (job) => job.target,
    },
    { head: 'Doing', width: 'minmax(0,1.6fr)', quiet: true, cell: doing, by: doing },
    { head: 'Took', width: '66px', right: true, quiet: true, cell: took, by: lasted },
    {
      head: 'Effect',
      width: '128px',
      cell: effect,
      by: (job) => job.effect ?? job.state,
    },
  ],
  narrow: (job) => [
    <>
      <b key="id" className="text-ink-2">
        {job.id}
      </b>
      <b key="runbook" className="min-w-0 flex-1 truncate">
        {job.runbook}
      </b>
      <span key="effect">{effect(job)}</span>
    </>,
    <>
      <Time key="time" at={job.created_at} />
      <span key="target" className="mono min-w-0 flex-1 truncate">
        {job.target}
      </span>
    </>,
  ],
};

export function JobRows({ jobs, within }: { jobs: JobItem[]; within?: boolean }) {
  if (jobs.length === 0) return <Empty>No job.</Empty>;
  return <Table items={jobs} id={(job) => job.id} look={JOBS} label="Jobs" within={within} />;
}
