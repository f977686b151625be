// Where the runbook of a job is shown: that of a run of a plan on the page of the plan.
const PLAN = 'plan/';

export const planOf = (runbook: string): string | undefined =>
  runbook.startsWith(PLAN) ? runbook.slice(PLAN.length) : undefined;

export const runbookPath = (runbook: string): string => {
  const plan = planOf(runbook);
  return plan ? `/plans/${plan}` : `/runbooks/${runbook}`;
};
