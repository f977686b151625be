// Signing in with a token: as a page of its own, and over the page when a session has ended, so that what stands there stays.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import { signIn, type Who } from '../api/client';
import { Brand } from '../ui/marks';
import { Button, Failed } from '../ui/parts';

/** Asks for a token; `why` says what for, where it is not plain. */
export function SignIn({ why, then }: { why?: string; then?: () => void }) {
  return (
    <main className="grid min-h-dvh place-items-center p-4">
      <div className="flex w-full max-w-sm flex-col gap-4 rounded-lg border border-line bg-panel p-6">
        <h1 className="flex items-center gap-2.5 font-bold text-xl">
          <Brand /> Arvok
        </h1>
        {why && <p className="text-[13px] text-ink-2">{why}</p>}
        <TokenForm then={then} />
      </div>
    </main>
  );
}

/** The session has ended: signing in again goes on where one was. */
export function SignInAgain({ who }: { who: Who }) {
  const queries = useQueryClient();
  return (
    <Dialog.Root open>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 flex w-[calc(100%-2rem)] max-w-sm -translate-x-1/2 -translate-y-1/2 flex-col gap-4 rounded-lg border border-line bg-panel p-6"
        >
          <Dialog.Title className="font-bold text-xl">Sign in again</Dialog.Title>
          <p className="text-[13px] text-ink-2">
            The session of {who.name} has ended, or its token was revoked. The page stays as it is.
          </p>
          <TokenForm then={() => void queries.invalidateQueries()} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function TokenForm({ then }: { then?: () => void }) {
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
  // A browser keeps the session's cookie only for a page that came by TLS, or from its own machine.
  if (!window.isSecureContext) return <WithoutTls />;
  return (
    <form onSubmit={submit} className="flex flex-col gap-4">
      <label className="flex flex-col gap-1.5 font-semibold text-[13px]" htmlFor="token">
        Token
        <input
          id="token"
          type="password"
          autoComplete="current-password"
          // biome-ignore lint/a11y/noAutofocus: there is nothing else to do here
          autoFocus
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
        The service keeps its first token in the file <code>admin.token</code> of its data folder.
        Others are made with <code>arvok token make</code>.
      </p>
    </form>
  );
}

function WithoutTls() {
  return (
    <div role="alert" className="flex flex-col gap-2 rounded-md bg-warn-soft px-3 py-2 text-warn">
      <p>
        This page came from <b>{location.host}</b> without TLS. A browser keeps no session there,
        and anybody on the way could read the token.
      </p>
      <p>
        Put a proxy with TLS before Arvok and set <code>public_url</code> to its address, or open
        the console on the machine itself.
      </p>
    </div>
  );
}
