// What a job of a runbook came to, and how long that took.
import type { JobItem } from '../../api/client';

type Ended = Pick<JobItem, 'state' | 'effect' | 'started_at' | 'finished_at'>;

/** Well, badly, or neither, and in a word. */
export function ended(job: Ended): ['good' | 'bad' | 'plain', string] {
  if (job.state === 'succeeded') {
    return [job.effect === 'unconfirmed' ? 'bad' : 'good', job.effect ?? 'succeeded'];
  }
  return [
    ['failed', 'unsure', 'refused', 'expired'].includes(job.state) ? 'bad' : 'plain',
    job.state,
  ];
}

/** From its beginning to its end in milliseconds, if it has both. */
export const took = (job: Ended): number | null =>
  job.started_at && job.finished_at
    ? Date.parse(job.finished_at) - Date.parse(job.started_at)
    : null;
