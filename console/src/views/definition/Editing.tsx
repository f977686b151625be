// What the pages of definitions that are written here have in common: the text, its problems, the head with what can be
// done, the editor, and publishing.
import { useQuery } from '@tanstack/react-query';
import { AlertDialog } from 'radix-ui';
import { lazy, type ReactNode, Suspense, useEffect, useState } from 'react';
import { useBlocker, useNavigate } from 'react-router';
import { type DefinitionDetail, documentSchema, vocabulary } from '../../api/client';
import { Button, Empty, Failed, Header, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Exact } from '../../ui/Time';
import type { Fields, Known } from './complete';
import { Publish } from './Publish';
import { Problems, useProblems } from './problems';
import { useDraft } from './useDraft';
import { Withdraw } from './Withdraw';

const Editor = lazy(() => import('./Editor'));

export type Kind = 'rule' | 'runbook' | 'source';

/** A text as it is written: of what is published, or of something new. */
export function useEditing(kind: Kind, found: DefinitionDetail | undefined, start: string) {
  const draft = useDraft(kind, found, start);
  const { text } = draft;
  const [publishing, setPublishing] = useState(false);
  const name =
    new RegExp(`^${kind}:\\s*([\\w-]+)`, 'm').exec(text)?.[1] ?? found?.item.name ?? kind;
  const problems = useProblems(name, text);
  const edited = !found || draft.changed;
  return { kind, found, ...draft, name, problems, edited, publishing, setPublishing };
}

type Editing = ReturnType<typeof useEditing>;

/** The head of the page; `children` stands before what every one has. */
export function EditingHeader({ editing, children }: { editing: Editing; children?: ReactNode }) {
  const { found, edited, problems } = editing;
  const may = useMay('author');
  return (
    <>
      <Leaving editing={editing} />
      <Header
        title={found?.item.name ?? editing.name}
        right={
          <>
            {children}
            {edited && found && (
              <Button onClick={() => editing.setText(found.text)}>Undo all</Button>
            )}
            {!edited && found && (
              <Withdraw kind={editing.kind} name={found.item.name} to={`/${editing.kind}s`} />
            )}
            {may ? (
              <Button
                look="go"
                disabled={!edited || problems.problems.length > 0}
                onClick={() => editing.setPublishing(true)}
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
      {editing.offered && <Offered editing={editing} />}
    </>
  );
}

/** A text that was not published the last time. */
function Offered({ editing }: { editing: Editing }) {
  const { offered } = editing;
  if (!offered) return null;
  const from = offered.base ? `, begun from version ${offered.base.version}` : '';
  return (
    <div
      role="status"
      className="flex flex-wrap items-center gap-3 rounded-md bg-sea-soft px-3 py-1.5"
    >
      <p className="min-w-0 flex-1">
        A text of <Exact at={offered.at} /> was not published{from}. It is kept in this browser.
      </p>
      <Button onClick={editing.takeUp}>Take it up</Button>
      <Button onClick={editing.discard}>Discard it</Button>
    </div>
  );
}

/** Asks before one leaves a text that is not published. */
function Leaving({ editing }: { editing: Editing }) {
  const { changed, isDone } = editing;
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
          <AlertDialog.Title className="font-bold text-[18px]">
            Leave {editing.name}?
          </AlertDialog.Title>
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

type WrittenProps = { editing: Editing; title: string; sees?: Fields; line?: { at: number } };

/** The text in its editor, and what is wrong with it. */
export function EditorPanel({ editing, title, sees, line }: WrittenProps) {
  const { problems, warnings, failed } = editing.problems;
  const words = useQuery({ queryKey: ['vocabulary'], queryFn: vocabulary, staleTime: 60_000 });
  const schema = useQuery({
    queryKey: ['schema', editing.kind],
    queryFn: () => documentSchema(editing.kind),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const known =
    words.data && schema.data
      ? ({ schema: schema.data, words: words.data, sees } as Known)
      : undefined;
  return (
    <Panel title={title} aside={editing.found ? `version ${editing.found.item.version}` : 'new'}>
      <Suspense fallback={<Empty>Opening the editor</Empty>}>
        <Editor
          label={`Text of the ${editing.kind}`}
          text={editing.text}
          onChange={editing.setText}
          onSave={() => editing.edited && problems.length === 0 && editing.setPublishing(true)}
          problems={[...problems, ...warnings]}
          known={known}
          line={line}
        />
      </Suspense>
      {failed && <Failed error={failed} />}
      <Problems problems={problems} warnings={warnings} />
    </Panel>
  );
}

/** Asks before it publishes; `children` is what else is to be thought of. */
export function Publishing({ editing, children }: { editing: Editing; children?: ReactNode }) {
  const navigate = useNavigate();
  return (
    <Publish
      name={editing.name}
      base={
        editing.base && editing.found
          ? { ...editing.base, name: editing.found.item.name }
          : undefined
      }
      text={editing.text}
      open={editing.publishing}
      onClose={(published) => {
        editing.setPublishing(false);
        if (published) editing.done();
        if (published && editing.found?.item.name !== editing.name)
          navigate(`/${editing.kind}s/${editing.name}`);
      }}
    >
      {children}
    </Publish>
  );
}
