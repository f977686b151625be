// Which alerts lead to which job.
import { Link } from 'react-router';
import { Tag } from '../ui/parts';
import { DefinitionRows } from './DefinitionRows';

export function Component() {
  return (
    <DefinitionRows
      kind="rule"
      title="Rules"
      path="/rules"
      right={
        <Link
          to="/rules/new"
          className="rounded-md border border-line bg-panel px-3 py-1 font-semibold text-[13px] hover:bg-sunk"
        >
          New rule
        </Link>
      }
      numbers={(rule) => (
        <>
          <Tag tone={rule.stance === 'act' ? 'sea' : 'plain'}>{rule.stance}</Tag>
          <span className="mono">{rule.runbook}</span>
          <span>{rule.used.alerts} alerts</span>
          <span>{rule.used.jobs} jobs</span>
          <span>{rule.used.confirmed} helped</span>
        </>
      )}
    />
  );
}
