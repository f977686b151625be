// Launching a runbook by hand: a form from its inputs, what it would do, and then the launch.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import {
  alert as alertOf,
  alertWhy,
  dryRun,
  job,
  launchRunbook,
  runbookForm,
} from '../../api/client';
import { Button, Empty, Failed, Header, Lost, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { DryRunSteps } from './DryRunSteps';
import { BOX, InputField } from './InputField';
import { about, type Field, fields, fromAlert, given, type Schema } from './inputs';

export function Component() {
  const name = useParams().name ?? '';
  const [params] = useSearchParams();
  const like = Number(params.get('like')) || undefined;
  const form = useQuery({ queryKey: ['runbooks', name], queryFn: () => runbookForm(name) });
  const before = useQuery({
    queryKey: ['jobs', like],
    queryFn: () => job(like ?? 0),
    enabled: like !== undefined,
  });
  const seq = like === undefined ? Number(params.get('alert')) || undefined : undefined;
  const came = useQuery({
    queryKey: ['alerts', seq],
    queryFn: () => alertOf(seq ?? 0),
    enabled: seq !== undefined,
  });
  const why = useQuery({
    queryKey: ['alerts', seq, 'why'],
    queryFn: () => alertWhy(seq ?? 0),
    enabled: seq !== undefined,
  });
  if (form.error && !form.data) return <Lost error={form.error} />;
  const asking = (like && before.isPending) || (seq && (came.isPending || why.isPending));
  if (!form.data || asking) return <Empty>Looking for {name}</Empty>;
  const alert = seq ?? before.data?.job.alert ?? undefined;
  const inputs = form.data.inputs as Record<string, Schema>;
  // As a rule would dispatch it, else by what the alert says.
  const ruled = why.data?.matching
    .flatMap((rule) => rule.dispatches)
    .find((dispatch) => dispatch.runbook === name && dispatch.inputs);
  const said = came.data && fromAlert(inputs, came.data.alert);
  const had = (before.data?.inputs ?? ruled?.inputs ?? said) as Record<string, unknown> | undefined;
  return (
    <>
      <Header title={`Launch ${name}`}>
        <span className="text-ink-2">{form.data.summary}</span>
      </Header>
      <Form
        key={`${name}-${like}-${seq}`}
        name={name}
        role={form.data.role}
        alert={alert}
        all={fields(inputs, had)}
      />
    </>
  );
}

/** The same launch sent twice, by a second click or over a bad line, makes one job. */
const newKey = () =>
  Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) =>
    b.toString(16).padStart(2, '0'),
  ).join('');

type FormProps = {
  name: string;
  role: 'viewer' | 'responder' | 'author' | 'admin';
  alert?: number | undefined;
  all: Field[];
};

function Form({ name, role, alert, all }: FormProps) {
  const may = useMay(role);
  const go = useNavigate();
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [why, setWhy] = useState('');
  const [key] = useState(newKey);
  const asked = {
    runbook: name,
    inputs: given(all, typed),
    alert: alert ?? null,
    why: why || null,
  };
  const said = JSON.stringify(asked.inputs);
  const [shown, setShown] = useState<string>();
  const look = useMutation({ mutationFn: () => dryRun(asked), onMutate: () => setShown(said) });
  const start = useMutation({
    mutationFn: () => launchRunbook(asked, key),
    onSuccess: (made) => go(`/jobs/${made.job}`),
  });
  const missing = all.filter((f) => f.must && !(f.name in asked.inputs)).map((f) => f.name);
  const fits = look.data !== undefined && shown === said;
  return (
    <div className="grid gap-3.5 lg:grid-cols-[minmax(0,380px)_minmax(0,1fr)]">
      <Panel title="Inputs" aside={alert ? `for alert ${alert}` : undefined} className="self-start">
        <form
          className="flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            look.mutate();
          }}
        >
          {all.map((field) => (
            <InputField
              key={field.name}
              field={field}
              value={typed[field.name] ?? field.first}
              onType={(text) => setTyped({ ...typed, [field.name]: text })}
              wrong={about(field.name, look.error)}
            />
          ))}
          <label className="flex flex-col gap-1">
            <span>Why</span>
            <input
              className={BOX}
              placeholder="For those who read it later"
              value={why}
              onChange={(e) => setWhy(e.target.value)}
            />
          </label>
          <div className="flex flex-wrap items-center gap-2">
            <Button type="submit" disabled={missing.length > 0}>
              Show what it would do
            </Button>
            {may && (
              <Button look="go" disabled={!fits || start.isPending} onClick={() => start.mutate()}>
                Launch
              </Button>
            )}
          </div>
          {missing.length > 0 && (
            <p className="text-[13px] text-ink-3">Still missing: {missing.join(', ')}</p>
          )}
          {!may && <Needs least={role}>Launching this runbook</Needs>}
          {look.error && !all.some((f) => about(f.name, look.error)) && (
            <Failed error={look.error} />
          )}
          {start.error && <Failed error={start.error} />}
        </form>
      </Panel>
      <Panel title="What it would do" className="self-start">
        {fits ? (
          <DryRunSteps dry={look.data} />
        ) : (
          <p className="text-ink-3">
            Give the inputs and look first: every value that can be known, and each request as it
            would be sent.
          </p>
        )}
      </Panel>
    </div>
  );
}
