// Withdrawing a definition: who still needs it is told first.
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { withdraw } from '../../api/client';
import { Failed } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';

type Props = { kind: string; name: string; to: string };

export function Withdraw({ kind, name, to }: Props) {
  const may = useMay('author');
  const queries = useQueryClient();
  const go = useNavigate();
  if (!may) return null;
  return (
    <Sure
      ask="Withdraw…"
      title={`Withdraw ${kind} ${name}?`}
      act="Withdraw"
      onAct={async () => {
        await withdraw(kind, name, false);
        await queries.invalidateQueries({ queryKey: ['definitions'] });
        go(to);
      }}
    >
      <Would kind={kind} name={name} />
    </Sure>
  );
}

function Would({ kind, name }: Omit<Props, 'to'>) {
  const plan = useQuery({
    queryKey: ['plan', 'withdraw', kind, name],
    queryFn: () => withdraw(kind, name, true),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
  const problems = plan.data?.problems ?? [];
  return (
    <>
      <p>It ends on every node at once. Its versions stay, and any of them can be brought back.</p>
      {plan.error && <Failed error={plan.error} />}
      {problems.length > 0 && (
        <>
          <p className="pt-2 text-bad">It is still needed, so this will be refused:</p>
          <ul className="list-disc pl-5 text-[13px]">
            {problems.map((problem) => (
              <li key={`${problem.file} ${problem.message}`}>{problem.message}</li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}
