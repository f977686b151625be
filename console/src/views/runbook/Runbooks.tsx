// The steps of jobs.
import { Link } from 'react-router';
import { count, DefinitionRows } from '../definition/DefinitionRows';

export function Component() {
  return (
    <DefinitionRows
      kind="runbook"
      title="Runbooks"
      path="/runbooks"
      right={
        <>
          <Link to="/library" className="font-semibold text-sea hover:underline">
            Start from the library
          </Link>
          <Link
            to="/runbooks/new"
            className="rounded-md border border-line bg-panel px-3 py-1 font-semibold text-[13px] hover:bg-sunk"
          >
            New runbook
          </Link>
        </>
      }
      columns={[
        count('Jobs', (runbook) => runbook.used.jobs),
        count('Helped', (runbook) => runbook.used.confirmed),
      ]}
    />
  );
}
