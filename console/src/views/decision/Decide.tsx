// The page behind a link in a message: what is asked and what is known, and one click that decides. Signing in is asked for
// unless the question says that the link is enough.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import {
  type DecisionContext,
  type DecisionItem,
  decideByLink,
  openLink,
  Refused,
} from '../../api/client';
import { SignIn } from '../../shell/SignIn';
import { Brand, Gauge } from '../../ui/marks';
import { Empty, Facts, Failed, Json, Panel, Tag } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Time } from '../../ui/Time';
import { Answer, Question } from './Question';

export function Component() {
  const link = location.hash.slice(1);
  const [taken, setTaken] = useState<DecisionItem>();
  const found = useQuery({
    queryKey: ['decision link', link],
    queryFn: () => openLink(link),
    // A link that was used leads nowhere any more.
    enabled: !taken,
    refetchInterval: (query) => (query.state.error ? false : 15_000),
    retry: (failures, error) => failures < 2 && !(error instanceof Refused && error.status >= 400),
  });
  if (found.error instanceof Refused && found.error.status === 401) {
    return (
      <SignIn
        why="A decision is asked of you. Sign in to see it."
        then={() => void found.refetch()}
      />
    );
  }
  return (
    <main className="mx-auto flex max-w-3xl flex-col gap-3.5 px-4 py-6">
      <p className="flex items-center gap-2 font-bold text-lg">
        <Brand />
        Arvok
      </p>
      {found.error && <Failed error={found.error} />}
      {found.isPending && <Empty>Looking for the question</Empty>}
      {found.data && !found.error && (
        <Context
          link={link}
          context={found.data}
          taken={taken}
          onTaken={setTaken}
          again={() => void found.refetch()}
        />
      )}
    </main>
  );
}

type ContextProps = {
  link: string;
  context: DecisionContext;
  taken?: DecisionItem;
  onTaken: (decision: DecisionItem) => void;
  again: () => void;
};

function Context({ link, context, taken, onTaken, again }: ContextProps) {
  const { decision, job, alert, raised, found, left_out, signed_in } = context;
  const [name, setName] = useState('');
  const take = useMutation({
    mutationFn: ({ choice, remark }: { choice: string; remark: string }) =>
      decideByLink(link, choice, name.trim(), remark || undefined),
    onSuccess: onTaken,
    onError: again,
  });
  const now = taken ?? decision;
  return (
    <>
      <h1 className="font-bold text-[22px] leading-tight">
        {decision.runbook} on <span className="mono break-all">{decision.target}</span>
      </h1>
      {now.state === 'open' ? (
        <Panel title="A decision is asked of you">
          <Question
            decision={decision}
            onDecide={(choice, remark) => take.mutate({ choice, remark })}
            busy={take.isPending}
            error={take.error}
            ready={!!signed_in || name.trim() !== ''}
            before={
              signed_in ? (
                <p className="pb-1.5 text-[13px] text-ink-2">
                  You decide as <b>{signed_in}</b>.
                </p>
              ) : (
                <label className="min-w-40 text-[13px] text-ink-2">
                  Your name
                  <input
                    value={name}
                    onChange={(event) => setName(event.target.value)}
                    maxLength={100}
                    autoComplete="name"
                    className="mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
                  />
                </label>
              )
            }
          />
        </Panel>
      ) : (
        <Panel
          title="This was asked"
          aside={<Tag tone={now.state === 'taken' ? 'good' : 'warn'}>{now.state}</Tag>}
        >
          <Answer decision={now} />
          {take.error && <Failed error={take.error} />}
        </Panel>
      )}
      <Panel title="What is known">
        <Facts
          rows={[
            ...(alert
              ? ([
                  [
                    'alert',
                    <span key="alert" className="flex items-center gap-2">
                      <Gauge severity={alert.severity} cleared={raised === false} />
                      {alert.summary}
                    </span>,
                  ],
                  ['received', <Time key="received" at={alert.received} />],
                ] as [string, React.ReactNode][])
              : []),
            ...(raised == null
              ? []
              : ([['its alarm', raised ? 'still stands' : 'is cleared']] as [string, string][])),
            ['job', `${job.id}, ${job.state}${job.doing ? `: ${job.doing}` : ''}`],
            ...(job.rule ? ([['rule', job.rule]] as [string, string][]) : []),
            ...(job.launched_by
              ? ([['launched by', shown(job.launched_by)]] as [string, string][])
              : []),
          ]}
        />
      </Panel>
      {found.length > 0 && (
        <Panel title="What the job found so far">
          {(left_out ?? 0) > 0 && (
            <p className="text-ink-2">{left_out} before these found something too.</p>
          )}
          <dl className="flex flex-col gap-2">
            {found.map((f, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: the list only grows
              <div key={i}>
                <dt className="font-semibold text-[13px]">{f.step}</dt>
                <dd>
                  <Json value={f.gave} />
                </dd>
              </div>
            ))}
          </dl>
        </Panel>
      )}
    </>
  );
}
