// Secrets by their names: where each may go, setting one anew, removing one. None is ever shown.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { removeSecret, type Secret, secrets, setSecret } from '../../api/client';
import { Button, Failed, Panel, Tag, Unanswered } from '../../ui/parts';
import { useMay } from '../../ui/rights';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';

const FIELD = 'mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink';

export function Secrets() {
  const admin = useMay('admin');
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ['secrets'], queryFn: secrets });
  const anew = () => queries.invalidateQueries({ queryKey: ['secrets'] });
  return (
    <Panel title="Secrets" aside={found.data?.length}>
      <Unanswered question={found} />
      <ul>
        {found.data?.map((secret) => (
          <li
            key={secret.name}
            className="flex flex-wrap items-center gap-x-3 border-line border-t py-1.5 first:border-t-0"
          >
            <span className="min-w-0 flex-1">
              <b className="break-words font-semibold">{secret.name}</b> <State of={secret} />
              <span className="block text-[13px] text-ink-3">
                set <Exact at={secret.changed_at} />; goes to{' '}
                {secret.allowed.length > 0 ? secret.allowed.join(', ') : 'nothing'}
              </span>
            </span>
            {admin && (
              <Sure
                ask="Remove…"
                title={`Remove the secret ${secret.name}?`}
                act="Remove it"
                onAct={async () => {
                  await removeSecret(secret.name);
                  await anew();
                }}
              >
                What needs it fails from now on. Its value does not come back.
              </Sure>
            )}
          </li>
        ))}
      </ul>
      {admin && <SetOne onSet={anew} />}
    </Panel>
  );
}

function State({ of }: { of: Secret }) {
  if (of.opens === false) return <Tag tone="bad">cannot be opened, set it again</Tag>;
  if (of.weak) return <Tag tone="warn">not hidden where it is shown: too {of.weak}</Tag>;
  return null;
}

function SetOne({ onSet }: { onSet: () => Promise<unknown> }) {
  const [name, setName] = useState('');
  const [value, setValue] = useState('');
  const [allowed, setAllowed] = useState('');
  const set = useMutation({
    mutationFn: () => {
      const to = allowed.split(/[\s,]+/).filter(Boolean);
      return setSecret(name.trim(), value, to.length > 0 ? to : undefined);
    },
    onSuccess: () => {
      setValue('');
      return onSet();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    set.mutate();
  };
  return (
    <form
      onSubmit={submit}
      autoComplete="off"
      className="mt-2 flex flex-col gap-2 border-line border-t pt-3"
    >
      <label className="text-[13px] text-ink-2">
        Name of a secret that is set, anew or for the first time
        <input className={FIELD} value={name} onChange={(event) => setName(event.target.value)} />
      </label>
      <label className="text-[13px] text-ink-2">
        Its value
        <input
          className={FIELD}
          type="password"
          autoComplete="new-password"
          value={value}
          onChange={(event) => setValue(event.target.value)}
        />
      </label>
      <label className="text-[13px] text-ink-2">
        Where it may go, such as <code>connection/yard source/yard-hypervisor</code>; left empty:
        where it may go already
        <input
          className={FIELD}
          value={allowed}
          onChange={(event) => setAllowed(event.target.value)}
        />
      </label>
      <Button
        type="submit"
        className="self-start"
        disabled={!name.trim() || !value || set.isPending}
      >
        Set it
      </Button>
      {set.isSuccess && <p role="status">It is set. It is not shown again.</p>}
      {set.error && <Failed error={set.error} />}
    </form>
  );
}
