// One job: where it comes from and leads to, what people can do with it, and its steps.
import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Link, useParams } from 'react-router';
import { type JobDetail, job as load } from '../../api/client';
import { Copy } from '../../ui/Copy';
import { Empty, Header, JobTag, Lost, TrialTag } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { planOf, runbookPath } from '../../ui/runbookPath';
import { Open } from '../decision/Open';
import { Held } from './Held';
import { FromFailed, JobActions } from './JobActions';
import { JobSteps } from './JobSteps';
import { Resolve } from './Resolve';
import { Seen } from './Seen';

export function Component() {
  const id = Number(useParams().id);
  const found = useQuery({ queryKey: ['jobs', id], queryFn: () => load(id) });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for job {id}</Empty>;
  const detail = found.data;
  const { job } = detail;
  return (
    <>
      <Header
        title={job.runbook}
        page={`Job ${job.id}, ${job.runbook}`}
        right={
          <>
            <JobActions job={job} />
            <Seen detail={detail} />
            {detail.goes_on_as && (
              <Link
                to={`/jobs/${detail.goes_on_as}`}
                className="font-semibold text-sea hover:underline"
              >
                Goes on as job {detail.goes_on_as}
              </Link>
            )}
            <FromFailed key={job.id} job={job} />
            {!planOf(job.runbook) && (
              <Link
                to={`/runbooks/${job.runbook}/launch?like=${job.id}`}
                className="font-semibold text-sea hover:underline"
              >
                Again…
              </Link>
            )}
          </>
        }
      >
        <span className="mono text-ink-2">{job.target}</span>
        <JobTag state={job.state} />
        <TrialTag trial={job.trial} />
        <span className="text-ink-3">
          Job {job.id} <Copy text={String(job.id)} of="the number of the job" />
        </span>
      </Header>
      <Chain detail={detail} />
      {job.trial === 'dry' && (
        <p className="rounded-md bg-warn-soft px-3 py-2">
          A trial: what only looks was done, all else is shown as it would be sent. Nobody was asked
          or told.
        </p>
      )}
      {job.failure && (
        <p
          role="status"
          className={clsx(
            'rounded-md px-3 py-2',
            job.state === 'succeeded' ? 'border border-line bg-panel' : 'bg-bad-soft text-bad',
          )}
        >
          {job.failure}
        </p>
      )}
      <Held detail={detail} />
      {job.state === 'paused' && (
        <p role="status" className="rounded-md bg-warn-soft px-3 py-2">
          {job.doing}
        </p>
      )}
      {detail.decisions
        .filter((d) => d.state === 'open')
        .map((d) => (
          <Open key={d.id} decision={d} />
        ))}
      <Resolve detail={detail} />
      <Touched detail={detail} />
      <JobSteps detail={detail} />
    </>
  );
}

/** What its calls have changed, besides or with its target. */
function Touched({ detail }: { detail: JobDetail }) {
  const resources = [...new Set(detail.touched?.map((one) => one.resource))];
  if (resources.length === 0) return null;
  return (
    <p className="text-[13px] text-ink-2">
      Touched{' '}
      {resources.map((resource, i) => (
        <span key={resource} className="break-words">
          {i > 0 && ', '}
          <span className="font-mono text-ink">{resource}</span>
        </span>
      ))}
    </p>
  );
}

type ChainLink = [string, string, string | undefined, 'past' | 'here' | 'open'];

/** Where a job comes from: an alert and a rule, or a person who launched it. */
function origin({ job, alert, gathered, gathered_more }: JobDetail): ChainLink[] {
  const from: ChainLink[] = [];
  if (job.parent) from.push(['Step of', `job ${job.parent}`, `/jobs/${job.parent}`, 'past']);
  const others = (gathered?.length ?? 1) - 1 + (gathered_more ?? 0);
  const more = others > 0 ? ` and ${others} more` : '';
  if (alert)
    from.push(['Alert', `${alert.kind}, ${alert.severity}${more}`, `/alerts/${alert.seq}`, 'past']);
  if (job.rule) from.push(['Rule', job.rule, `/rules/${job.rule}`, 'past']);
  if (job.launched_by) from.push(['Launched by', shown(job.launched_by), undefined, 'past']);
  return from;
}

/** Where it comes from, the job, its effect: each a link to the next. */
function Chain({ detail }: { detail: JobDetail }) {
  const { job } = detail;
  const links: ChainLink[] = [
    ...origin(detail),
    ['Job', job.runbook, runbookPath(job.runbook), 'here'],
    [
      'Effect',
      job.effect ?? 'not yet known',
      job.alarm ? `/alarms/${job.alarm}` : undefined,
      job.effect ? 'past' : 'open',
    ],
  ];
  return (
    <ol className="flex flex-wrap items-center gap-y-2 text-[13px]">
      {links.map(([what, name, to, look], i) => (
        <li key={what} className="flex items-center">
          <span
            className={clsx('rounded-[7px] border px-3 py-1', {
              'border-line bg-panel': look === 'past',
              'border-sea bg-panel': look === 'here',
              'border-line border-dashed': look === 'open',
            })}
          >
            <span className="text-ink-3">{what}</span>{' '}
            {to ? (
              <Link to={to} className="font-semibold hover:underline">
                {name}
              </Link>
            ) : (
              <b className="font-semibold">{name}</b>
            )}
          </span>
          {i < links.length - 1 && (
            <svg width="30" height="10" aria-hidden="true">
              <path d="M3 5h22m-5-4 5 4-5 4" fill="none" stroke="var(--ink-3)" />
            </svg>
          )}
        </li>
      ))}
    </ol>
  );
}
