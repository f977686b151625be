// Trying the text on an alert: one that came, or one that never did.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { alerts, why } from '../../api/client';
import { Button, Failed, Panel, Tag } from '../../ui/parts';
import { Clauses, Settled } from './Clauses';

/** An alert to begin with: the last that the rule matched, or else a form to fill in. */
const FORM = `{
  "source": "",
  "kind": "",
  "severity": "major",
  "resource": ""
}`;

export function Try({
  name,
  text,
  edited,
  alert,
}: {
  name: string;
  text: string;
  edited: boolean;
  alert?: number;
}) {
  const last = useQuery({
    queryKey: ['alerts', 'last of', name],
    queryFn: () => alerts({ rule: name, verdict: 'matched' }),
    enabled: !alert,
  });
  const [typed, setGiven] = useState(alert ? String(alert) : undefined);
  const newest = last.data?.items[0]?.seq;
  const given = typed ?? (newest ? String(newest) : FORM);
  const asked = useMutation({
    mutationFn: () => {
      const of = edited ? { text } : { rule: name };
      const number = /^\s*\d+\s*$/.test(given);
      return why(number ? { ...of, alert: Number(given) } : { ...of, given: JSON.parse(given) });
    },
  });
  return (
    <Panel title="Try it on an alert" aside="nothing is changed">
      <label className="block text-[13px] text-ink-2">
        The number of an alert that came, or an alert that never did:
        <textarea
          value={given}
          onChange={(event) => setGiven(event.target.value)}
          rows={Math.min(9, given.split('\n').length)}
          spellCheck={false}
          className="mono mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
        />
      </label>
      <Button className="mt-2" onClick={() => asked.mutate()} disabled={asked.isPending}>
        Ask why
      </Button>
      {asked.error && (
        <div className="mt-2">
          <Failed error={asked.error} />
        </div>
      )}
      {asked.data && (
        <div className="mt-3 border-line border-t pt-2">
          <p className="mb-2">
            <Tag tone={asked.data.matches ? 'good' : 'plain'}>
              {asked.data.matches ? 'matches' : `${asked.data.short} short`}
            </Tag>
          </p>
          <Clauses why={asked.data} />
          <Settled why={asked.data} />
        </div>
      )}
    </Panel>
  );
}
