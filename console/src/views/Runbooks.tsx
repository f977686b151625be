// The steps of jobs.
import { DefinitionRows } from './DefinitionRows';

export function Component() {
  return (
    <DefinitionRows
      kind="runbook"
      title="Runbooks"
      path="/runbooks"
      numbers={(runbook) => (
        <>
          <span>{runbook.used.jobs} jobs</span>
          <span>{runbook.used.confirmed} helped</span>
        </>
      )}
    />
  );
}
