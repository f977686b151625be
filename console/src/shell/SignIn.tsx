// Signing in with a token.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { signIn } from '../api/client';
import { Brand } from '../ui/marks';
import { Button, Failed } from '../ui/parts';

/** Asks for a token; `why` says what for, where it is not plain. */
export function SignIn({ why, then }: { why?: string; then?: () => void }) {
  const queries = useQueryClient();
  const [token, setToken] = useState('');
  const enter = useMutation({
    mutationFn: () => signIn(token.trim()),
    onSuccess: (who) => {
      queries.setQueryData(['me'], who);
      then?.();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    enter.mutate();
  };
  return (
    <main className="grid min-h-dvh place-items-center p-4">
      <form
        onSubmit={submit}
        className="flex w-full max-w-sm flex-col gap-4 rounded-lg border border-line bg-panel p-6"
      >
        <h1 className="flex items-center gap-2.5 font-bold text-xl">
          <Brand /> Arvok
        </h1>
        {why && <p className="text-[13px] text-ink-2">{why}</p>}
        <label className="flex flex-col gap-1.5 font-semibold text-[13px]" htmlFor="token">
          Token
          <input
            id="token"
            type="password"
            autoComplete="current-password"
            required
            value={token}
            onChange={(event) => setToken(event.target.value)}
            className="mono rounded-md border border-ink-3 bg-paper px-2.5 py-1.5 font-normal"
          />
        </label>
        {enter.error && <Failed error={enter.error} />}
        <Button look="go" type="submit" disabled={enter.isPending}>
          Sign in
        </Button>
        <p className="text-[12.5px] text-ink-3">
          The service keeps its first token in the file <code>admin.token</code> of its data folder. Others
          are made with <code>arvok token make</code>.
        </p>
      </form>
    </main>
  );
}
