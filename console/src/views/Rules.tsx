// Which alerts lead to which job.
import { Link } from 'react-router';
import { Tag } from '../ui/parts';
import { count, DefinitionRows } from './definition/DefinitionRows';

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
      columns={[
        {
          head: 'Stance',
          width: '66px',
          cell: (rule) => <Tag tone={rule.stance === 'act' ? 'sea' : 'plain'}>{rule.stance}</Tag>,
        },
        { head: 'Runbook', width: 'minmax(0,0.9fr)', mono: true, cell: (rule) => rule.runbook },
        count('Alerts', (rule) => rule.used.alerts),
        count('Jobs', (rule) => rule.used.jobs),
        count('Helped', (rule) => rule.used.confirmed),
      ]}
    />
  );
}
