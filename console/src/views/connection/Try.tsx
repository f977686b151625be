// An operation called by hand: a form from what it takes, what would be sent, the call, and what it gave as a step.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { type Operation, tryOperation } from '../../api/client';
import { AsCurl } from '../../ui/AsCurl';
import { Copy } from '../../ui/Copy';
import { Button, Failed, Json, Panel } from '../../ui/parts';
import { ResponseDetails } from '../../ui/ResponseDetails';
import { Needs, useMay } from '../../ui/rights';
import { InputField } from '../launch/InputField';
import { about, fields, given, type Schema } from '../launch/inputs';
import { Ended, millis } from './Standing';
import { asStep } from './step';

type Props = { via: string; address?: string | null; operation: Operation; onClose: () => void };

export default function Try({ via, address, operation, onClose }: Props) {
  const queries = useQueryClient();
  const looks = operation.looks;
  const least = looks ? 'responder' : 'author';
  const may = useMay(least);
  const [typed, setTyped] = useState<Record<string, string>>({});
  const all = fields(operation.takes as Record<string, Schema>);
  const give = given(all, typed);
  const said = JSON.stringify(give);
  const [shown, setShown] = useState<string>();
  const look = useMutation({
    mutationFn: () => tryOperation(via, operation.name, give, true),
    onMutate: () => setShown(said),
  });
  const call = useMutation({
    mutationFn: () => tryOperation(via, operation.name, give, false),
    onSettled: () =>
      setTimeout(() => queries.invalidateQueries({ queryKey: ['connections'] }), 700),
  });
  const missing = all.filter((f) => f.must && !(f.name in give)).map((f) => f.name);
  const seen = look.data && shown === said;
  const wrong = look.error ?? call.error;
  return (
    <Panel
      title={`Try ${operation.name}`}
      aside={
        <button type="button" className="text-sea hover:underline" onClick={onClose}>
          Close
        </button>
      }
    >
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (looks) call.mutate();
          else look.mutate();
        }}
      >
        {all.map((field) => (
          <InputField
            key={field.name}
            field={field}
            value={typed[field.name] ?? field.first}
            onType={(text) => setTyped({ ...typed, [field.name]: text })}
            wrong={about(field.name, wrong)}
          />
        ))}
        {seen && (
          <pre className="whitespace-pre-wrap break-words rounded-md bg-sunk p-2">
            {look.data.request.method} {look.data.request.target}
            {look.data.request.body != null &&
              `\n${JSON.stringify(look.data.request.body, null, 2)}`}
            <span className="block font-sans">
              <AsCurl request={look.data.request} base={address} />
            </span>
          </pre>
        )}
        <div className="flex flex-wrap items-center gap-2">
          {may && looks && (
            <Button type="submit" look="go" disabled={missing.length > 0 || call.isPending}>
              Call
            </Button>
          )}
          {may && !looks && (
            <>
              <Button type="submit" disabled={missing.length > 0}>
                Show what would be sent
              </Button>
              <Button look="go" disabled={!seen || call.isPending} onClick={() => call.mutate()}>
                Call
              </Button>
            </>
          )}
          {!may && <Needs least={least}>Calling this</Needs>}
        </div>
        {missing.length > 0 && (
          <p className="text-[13px] text-ink-3">Still missing: {missing.join(', ')}</p>
        )}
        {wrong && !all.some((f) => about(f.name, wrong)) && <Failed error={wrong} />}
      </form>
      {call.data?.state && (
        <div className="flex flex-col gap-2 pt-3" role="status">
          <p>
            <Ended state={call.data.state} /> in {millis(call.data.millis)}
            {call.data.message && `: ${call.data.message}`}
          </p>
          {call.data.answer && (
            <ResponseDetails
              answer={call.data.answer}
              gave={call.data.output}
              method={look.data?.request?.method}
            />
          )}
          {call.data.output != null && (
            <>
              <h3 className="font-semibold text-[12px] text-ink-3">Output</h3>
              <Json value={call.data.output} />
            </>
          )}
          {call.data.state === 'done' && <Step text={asStep(via, operation.name, give)} />}
        </div>
      )}
    </Panel>
  );
}

function Step({ text }: { text: string }) {
  return (
    <div className="flex flex-col gap-1">
      <p className="text-[13px] text-ink-2">As a step of a runbook:</p>
      <pre className="whitespace-pre-wrap break-words rounded-md bg-sunk p-2">{text}</pre>
      <span>
        <Copy text={text} of="of a runbook" shown="copy the step" />
      </span>
    </div>
  );
}
