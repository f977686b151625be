// Tokens: who has one, making another, revoking one.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { makeToken, revokeToken, tokens, type Who } from '../../api/client';
import { Copy } from '../../ui/Copy';
import { Button, Failed, Panel, Tag, Unanswered } from '../../ui/parts';
import { Sure } from '../../ui/Sure';
import { Exact } from '../../ui/Time';
import { Automation } from './Automation';

const ROLES: [Who['role'], string][] = [
  ['viewer', 'reads everything but secrets'],
  ['responder', 'launches, pauses, cancels and resolves jobs, decides'],
  ['author', 'publishes definitions, and lets act what it may automate'],
  ['admin', 'tokens and secrets'],
];
const FIELD = 'rounded-md border border-line bg-panel px-2 py-1';

export function Tokens() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ['tokens'], queryFn: tokens });
  const anew = () => queries.invalidateQueries({ queryKey: ['tokens'] });
  const [name, setName] = useState('');
  const [role, setRole] = useState<Who['role']>('viewer');
  const make = useMutation({
    mutationFn: () => makeToken(name.trim(), role),
    onSuccess: () => {
      setName('');
      return anew();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <Panel title="Tokens" aside={found.data?.length}>
      <Unanswered question={found} />
      <ul>
        {found.data?.map((token) => (
          <li
            key={token.name}
            className="flex flex-wrap items-center gap-x-3 border-line border-t py-1.5 first:border-t-0"
          >
            <b className="min-w-0 flex-1 break-words font-semibold">{token.name}</b>
            <Tag tone={token.role === 'admin' ? 'sea' : 'plain'}>{token.role}</Tag>
            <span className="text-[13px] text-ink-3">
              made <Exact at={token.created_at} />
            </span>
            <Sure
              ask="Revoke…"
              title={`Revoke the token ${token.name}?`}
              act="Revoke it"
              onAct={async () => {
                await revokeToken(token.name);
                await anew();
              }}
            >
              Whoever has it is refused from now on, and its sessions end. It does not come back.
            </Sure>
            {token.role === 'author' && <Automation token={token} onSet={anew} />}
          </li>
        ))}
      </ul>
      <form
        onSubmit={submit}
        className="mt-2 flex flex-wrap items-end gap-2 border-line border-t pt-3"
      >
        <label className="text-[13px] text-ink-2">
          Name of a new token
          <input
            className={`mt-1 block w-44 text-ink ${FIELD}`}
            value={name}
            maxLength={64}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <label className="text-[13px] text-ink-2">
          Role
          <select
            className={`mt-1 block text-ink ${FIELD}`}
            value={role}
            onChange={(event) => setRole(event.target.value as Who['role'])}
          >
            {ROLES.map(([one, may]) => (
              <option key={one} value={one}>
                {one}: {may}
              </option>
            ))}
          </select>
        </label>
        <Button type="submit" disabled={!name.trim() || make.isPending}>
          Make it
        </Button>
      </form>
      {make.error && <Failed error={make.error} />}
      {make.data && (
        <p role="status" className="mt-2 rounded-md bg-sea-soft px-3 py-2">
          The token of {make.data.name}, shown this once:{' '}
          <code className="break-all">{make.data.token}</code>{' '}
          <Copy text={make.data.token} of="the token" />
        </p>
      )}
    </Panel>
  );
}
