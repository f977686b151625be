// A question that waits for a person, where whoever looks is signed in.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type DecisionItem, takeDecision } from '../../api/client';
import { Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Question } from './Question';

const ROLES = ['responder', 'author', 'admin'] as const;

export function Open({ decision }: { decision: DecisionItem }) {
  const queries = useQueryClient();
  const role = ROLES.find((r) => r === decision.to);
  const may = useMay(role ?? 'viewer');
  const take = useMutation({
    mutationFn: ({ choice, remark }: { choice: string; remark: string }) =>
      takeDecision(decision.id, choice, remark || undefined),
    onSettled: () => {
      queries.invalidateQueries({ queryKey: ['jobs'] });
      queries.invalidateQueries({ queryKey: ['watch'] });
    },
  });
  return (
    <Panel title="Waits for your decision" aside={`step ${decision.step}, asked of ${decision.to}`}>
      <Question
        decision={decision}
        onDecide={may ? (choice, remark) => take.mutate({ choice, remark }) : undefined}
        busy={take.isPending}
        error={take.error}
      />
      {!may && role && <Needs least={role}>Deciding</Needs>}
    </Panel>
  );
}
