// What can be done about an alarm: what rules would dispatch for its last alert, or any other runbook, with the inputs that
// the alert gives; and a rule that begins with it.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { alertWhy, definitions } from '../../api/client';
import { Button, Panel, Tag, Unanswered } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';

export function Remedies({ alert }: { alert: number }) {
  const may = useMay('responder');
  const go = useNavigate();
  const why = useQuery({ queryKey: ['alerts', alert, 'why'], queryFn: () => alertWhy(alert) });
  const runbooks = useQuery({
    queryKey: ['definitions', 'runbook'],
    queryFn: () => definitions('runbook'),
  });
  const [other, setOther] = useState('');
  const ways = (why.data?.matching ?? []).flatMap((rule) =>
    rule.dispatches.filter((d) => d.applies).map((d) => ({ rule, runbook: d.runbook })),
  );
  const launch = (runbook: string) => `/runbooks/${runbook}/launch?alert=${alert}`;
  return (
    <Panel title="What can be done">
      <Unanswered question={why} />
      {ways.map(({ rule, runbook }) => (
        <p key={`${rule.rule} ${runbook}`} className="flex flex-wrap items-baseline gap-x-2 py-1">
          {may ? (
            <Link to={launch(runbook)} className="font-semibold text-sea hover:underline">
              Launch {runbook}…
            </Link>
          ) : (
            <b className="font-semibold">{runbook}</b>
          )}
          <span className="text-[13px] text-ink-2">
            as rule{' '}
            <Link to={`/rules/${rule.rule}`} className="hover:underline">
              {rule.rule}
            </Link>{' '}
            does
          </span>
          <Tag tone={rule.stance === 'act' ? 'sea' : 'plain'}>{rule.stance}</Tag>
        </p>
      ))}
      {why.data && ways.length === 0 && (
        <p className="py-1 text-[13px] text-ink-2">
          No rule dispatches anything for its last alert.
        </p>
      )}
      {may ? (
        <form
          className="flex flex-wrap items-center gap-2 pt-1"
          onSubmit={(event) => {
            event.preventDefault();
            if (other) go(launch(other));
          }}
        >
          <select
            aria-label="Another runbook"
            className="max-w-full rounded-md border border-line bg-panel px-2 py-1 text-[13px]"
            value={other}
            onChange={(event) => setOther(event.target.value)}
          >
            <option value="">Another runbook</option>
            {runbooks.data?.items.map((item) => (
              <option key={item.name}>{item.name}</option>
            ))}
          </select>
          <Button type="submit" disabled={!other}>
            Launch…
          </Button>
        </form>
      ) : (
        <Needs least="responder">Launching a runbook</Needs>
      )}
      <p className="pt-2">
        <Link to={`/rules/new?alert=${alert}`} className="font-semibold text-sea hover:underline">
          Start a rule from it
        </Link>
      </p>
    </Panel>
  );
}
