// The two answers to a proposal: launching it, with other inputs where its runbook allows them and after a look at what it
// would do; or dismissing it with the reason.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { dismiss, dryRun, launch, type Proposal, runbookForm } from '../../api/client';
import { Button, Empty, Failed, Panel, Unanswered } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { DryRunSteps } from '../launch/DryRunSteps';
import { InputField } from '../launch/InputField';
import { about, fields, given, type Schema } from '../launch/inputs';

export function Answer({ proposal }: { proposal: Proposal }) {
  const form = useQuery({
    queryKey: ['runbooks', proposal.runbook],
    queryFn: () => runbookForm(proposal.runbook),
  });
  if (!form.data) {
    return (
      <Panel title="What would be done">
        <Unanswered question={form} />
      </Panel>
    );
  }
  return <Asked proposal={proposal} schemas={form.data.inputs as Record<string, Schema>} />;
}

type AskedProps = { proposal: Proposal; schemas: Record<string, Schema> };

function Asked({ proposal, schemas }: AskedProps) {
  const may = useMay('responder');
  const go = useNavigate();
  const queries = useQueryClient();
  const [note, setNote] = useState('');
  const [typed, setTyped] = useState<Record<string, string>>({});
  const proposed = proposal.inputs as Record<string, unknown>;
  const all = fields(schemas, proposed);
  const inputs = given(all, typed);
  const others = Object.fromEntries(
    Object.entries(inputs).filter(
      ([name, value]) => JSON.stringify(value) !== JSON.stringify(proposed[name]),
    ),
  );
  const changed = Object.keys(others);
  const asked = { runbook: proposal.runbook, inputs, alert: proposal.alert ?? null };
  // As it is proposed it is shown at once; with other inputs when it is asked for.
  const [shown, setShown] = useState(asked);
  const dry = useQuery({
    queryKey: ['dry', proposal.id, shown],
    queryFn: () => dryRun(shown),
    retry: false,
    staleTime: 30_000,
  });
  const fits = JSON.stringify(shown) === JSON.stringify(asked) && dry.data !== undefined;
  const anew = () => queries.invalidateQueries({ queryKey: ['proposals'] });
  const launched = useMutation({
    mutationFn: () => launch(proposal.id, note.trim() || undefined, others),
    onSuccess: async () => {
      await anew();
      go(`/jobs/${proposal.id}`);
    },
  });
  const dismissed = useMutation({
    mutationFn: () => dismiss(proposal.id, note.trim()),
    onSuccess: anew,
  });
  const error = launched.error ?? dismissed.error;
  return (
    <>
      <Panel>
        {may ? (
          <div className="flex flex-wrap items-end gap-2">
            <label className="min-w-56 flex-1 text-[13px] text-ink-2">
              Reason, needed for dismissing
              <input
                value={note}
                onChange={(event) => setNote(event.target.value)}
                maxLength={2000}
                className="mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
              />
            </label>
            <Button
              onClick={() => dismissed.mutate()}
              disabled={!note.trim() || dismissed.isPending}
            >
              Dismiss
            </Button>
            <Button
              look="go"
              onClick={() => launched.mutate()}
              disabled={!fits || launched.isPending}
            >
              {changed.length > 0 ? `Launch with another ${changed.join(', ')}` : 'Launch'}
            </Button>
          </div>
        ) : (
          <Needs least="responder">Launching or dismissing it</Needs>
        )}
        {error && (
          <div className="mt-2">
            <Failed error={error} />
          </div>
        )}
      </Panel>
      <div className="grid items-start gap-3.5 lg:grid-cols-[minmax(0,380px)_minmax(0,1fr)]">
        <Panel title="Inputs" aside="as proposed, unless you change them">
          <form
            className="flex flex-col gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              setShown(asked);
            }}
          >
            {all.map((field) => (
              <InputField
                key={field.name}
                field={field}
                value={typed[field.name] ?? field.first}
                onType={(text) => setTyped({ ...typed, [field.name]: text })}
                wrong={about(field.name, dry.error)}
              />
            ))}
            {changed.length > 0 && !fits && (
              <Button type="submit" className="self-start">
                Show what it would do
              </Button>
            )}
          </form>
        </Panel>
        <Panel
          title="What would be done"
          aside={`${proposal.runbook} version ${proposal.runbook_version}`}
        >
          {dry.error && !all.some((f) => about(f.name, dry.error)) && <Failed error={dry.error} />}
          {dry.data && dry.data.version !== proposal.runbook_version && (
            <p className="pb-2 text-warn">
              Version {dry.data.version} is published by now, and shown here; launched is version{' '}
              {proposal.runbook_version}.
            </p>
          )}
          {dry.isPending && <Empty>Looking</Empty>}
          {dry.data && <DryRunSteps dry={dry.data} />}
        </Panel>
      </div>
    </>
  );
}
