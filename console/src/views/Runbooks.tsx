// The steps of jobs.
import { count, DefinitionRows } from './DefinitionRows';

export function Component() {
  return (
    <DefinitionRows
      kind="runbook"
      title="Runbooks"
      path="/runbooks"
      columns={[
        count('Jobs', (runbook) => runbook.used.jobs),
        count('Helped', (runbook) => runbook.used.confirmed),
      ]}
    />
  );
}
