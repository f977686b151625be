// Which alerts lead to which job.
import { Tag } from '../ui/parts';
import { DefinitionRows } from './DefinitionRows';

export function Component() {
  return (
    <DefinitionRows
      kind="rule"
      title="Rules"
      path="/rules"
      numbers={(rule) => (
        <>
          <Tag tone={rule.stance === 'act' ? 'sea' : 'plain'}>{rule.stance}</Tag>
          <span>{rule.used.alerts} alerts</span>
          <span>{rule.used.jobs} jobs</span>
          <span>{rule.used.confirmed} helped</span>
        </>
      )}
    />
  );
}
