// What the pages of definitions that are written here have in common: the text, its complaints, the head with what can be
// done, the editor, and publishing.
import { useQuery } from '@tanstack/react-query';
import { AlertDialog } from 'radix-ui';
import { lazy, type ReactNode, Suspense, useEffect, useState } from 'react';
import { useBlocker, useNavigate } from 'react-router';
import { type DefinitionDetail, documentSchema, vocabulary } from '../../api/client';
import { Button, Empty, Failed, Header, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Exact } from '../../ui/Time';
import { Complaints, useComplaints } from './complaints';
import type { Fields, Known } from './complete';
import { Publish } from './Publish';
import { useDraft } from './useDraft';
import { Withdraw } from './Withdraw';

const Editor = lazy(() => import('./Editor'));

export type Kind = 'rule' | 'runbook' | 'source';

/** A text as it is written: of what is published, or of something new. */
export function useDesk(kind: Kind, found: DefinitionDetail | undefined, start: string) {
  const draft = useDraft(kind, found, start);
  const { text } = draft;
  const [publishing, setPublishing] = useState(false);
  const name = new RegExp(`^${kind}:\\s*([\\w-]+)`, 'm').exec(text)?.[1] ?? found?.item.name ?? kind;
  const complaints = useComplaints(name, text);
  const edited = !found || draft.changed;
  return { kind, found, ...draft, name, complaints, edited, publishing, setPublishing };
}

type Desk = ReturnType<typeof useDesk>;

/** The head of the page; `children` stands before what every one has. */
export function DeskHead({ desk, children }: { desk: Desk; children?: ReactNode }) {
  const { found, edited, complaints } = desk;
  const may = useMay('author');
  return (
    <>
      <Leaving desk={desk} />
      <Header
        title={found?.item.name ?? desk.name}
        right={
          <>
            {children}
            {edited && found && <Button onClick={() => desk.setText(found.text)}>Undo all</Button>}
            {!edited && found && <Withdraw kind={desk.kind} name={found.item.name} to={`/${desk.kind}s`} />}
            {may ? (
              <Button
                look="go"
                disabled={!edited || complaints.problems.length > 0}
                onClick={() => desk.setPublishing(true)}
              >
                {found ? `Publish version ${found.item.version + 1}` : 'Publish'}
              </Button>
            ) : (
              <Needs least="author">Publishing</Needs>
            )}
          </>
        }
      >
        <span className="text-ink-2">{edited ? 'edited, not published' : found?.item.summary}</span>
      </Header>
      {desk.offered && <Offered desk={desk} />}
    </>
  );
}

/** A text that was not published the last time. */
function Offered({ desk }: { desk: Desk }) {
  const { offered } = desk;
  if (!offered) return null;
  const from = offered.base ? `, begun from version ${offered.base.version}` : '';
  return (
    <div role="status" className="flex flex-wrap items-center gap-3 rounded-md bg-sea-soft px-3 py-1.5">
      <p className="min-w-0 flex-1">
        A text of <Exact at={offered.at} /> was not published{from}. It is kept in this browser.
      </p>
      <Button onClick={desk.takeUp}>Take it up</Button>
      <Button onClick={desk.discard}>Discard it</Button>
    </div>
  );
}

/** Asks before one leaves a text that is not published. */
function Leaving({ desk }: { desk: Desk }) {
  const { changed, isDone } = desk;
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) =>
      changed && !isDone.current && currentLocation.pathname !== nextLocation.pathname,
  );
  useEffect(() => {
    if (!changed) return;
    const leaves = (event: BeforeUnloadEvent) => event.preventDefault();
    addEventListener('beforeunload', leaves);
    return () => removeEventListener('beforeunload', leaves);
  }, [changed]);
  return (
    <AlertDialog.Root open={blocker.state === 'blocked'}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 z-20 flex w-[min(420px,94vw)] -translate-x-1/2 -translate-y-1/2 flex-col gap-3 rounded-lg border border-line bg-panel p-4">
          <AlertDialog.Title className="font-bold text-[18px]">Leave {desk.name}?</AlertDialog.Title>
          <AlertDialog.Description className="text-ink-2">
            The text is not published. It is kept in this browser, and offered when you come back.
          </AlertDialog.Description>
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button onClick={() => blocker.reset?.()}>Stay</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button look="go" onClick={() => blocker.proceed?.()}>
                Leave
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

type WrittenProps = { desk: Desk; title: string; sees?: Fields; line?: { at: number } };

/** The text in its editor, and what is wrong with it. */
export function Written({ desk, title, sees, line }: WrittenProps) {
  const { problems, warnings, failed } = desk.complaints;
  const words = useQuery({ queryKey: ['vocabulary'], queryFn: vocabulary, staleTime: 60_000 });
  const schema = useQuery({
    queryKey: ['schema', desk.kind],
    queryFn: () => documentSchema(desk.kind),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const known =
    words.data && schema.data ? ({ schema: schema.data, words: words.data, sees } as Known) : undefined;
  return (
    <Panel title={title} aside={desk.found ? `version ${desk.found.item.version}` : 'new'}>
      <Suspense fallback={<Empty>Opening the editor</Empty>}>
        <Editor
          label={`Text of the ${desk.kind}`}
          text={desk.text}
          onChange={desk.setText}
          onSave={() => desk.edited && problems.length === 0 && desk.setPublishing(true)}
          problems={[...problems, ...warnings]}
          known={known}
          line={line}
        />
      </Suspense>
      {failed && <Failed error={failed} />}
      <Complaints problems={problems} warnings={warnings} />
    </Panel>
  );
}

/** Asks before it publishes; `children` is what else is to be thought of. */
export function Publishing({ desk, children }: { desk: Desk; children?: ReactNode }) {
  const navigate = useNavigate();
  return (
    <Publish
      name={desk.name}
      base={desk.base && desk.found ? { ...desk.base, name: desk.found.item.name } : undefined}
      text={desk.text}
      open={desk.publishing}
      onClose={(published) => {
        desk.setPublishing(false);
        if (published) desk.done();
        if (published && desk.found?.item.name !== desk.name) navigate(`/${desk.kind}s/${desk.name}`);
      }}
    >
      {children}
    </Publish>
  );
}
