// A job's steps as rows: their tree from top to bottom, each as deep as it stands.
import type { JobDetail, JobPart, JobStep } from '../../api/client';

export type Row = { key: string; depth: number } & (
  | { kind: 'step'; step: JobStep }
  /** Steps within a step, by what names them; those that were not gone, or not yet, are not shown one by one. */
  | { kind: 'part'; label: string; taken: boolean; undecided: boolean }
  /** Items of a list that are not shown. */
  | { kind: 'left out'; items: number }
);

export function rows({ steps, further }: Pick<JobDetail, 'steps' | 'further'>): Row[] {
  const found: Row[] = [];
  const part = (part: JobPart, around: string, depth: number, next = false) => {
    const key = `${around}/${part.label}`;
    found.push({
      key,
      depth,
      kind: 'part',
      label: part.label,
      taken: part.taken,
      undecided: next && !part.taken,
    });
    if (part.taken) list(part.steps, depth + 1);
  };
  const list = (steps: JobStep[], depth: number) => {
    for (const step of steps) {
      found.push({ key: step.place, depth, kind: 'step', step });
      for (const within of step.parts ?? []) {
        const next = step.state === 'next';
        if (within.taken || within.label !== 'undo') part(within, step.place, depth + 1, next);
      }
      const items = step.left_out ?? 0;
      if (items > 0)
        found.push({ key: `${step.place}/left out`, depth: depth + 1, kind: 'left out', items });
    }
  };
  list(steps, 0);
  // The proof has a row of its own.
  for (const beside of further) {
    if (beside.taken && beside.label !== 'confirm') part(beside, '', 0);
  }
  return found;
}

/** Calls that belong to a step, and are no steps within it. */
const BESIDE = ['told', 'probe'];

/** The steps that are open or failed, the first of them to be looked at. */
export const firstOfInterest = (all: Row[]) =>
  all.find(
    (row) =>
      row.kind === 'step' &&
      ['running', 'again', 'waiting', 'failed', 'unsure'].includes(row.step.state) &&
      !row.step.parts?.some((p) => p.taken && !BESIDE.includes(p.label)),
  );
