// What the pages of definitions that are written here have in common: the text, its complaints, the head with what can be
// done, the editor, and publishing.
import { useQuery } from '@tanstack/react-query';
import { lazy, type ReactNode, Suspense, useState } from 'react';
import { useNavigate } from 'react-router';
import { type DefinitionDetail, documentSchema, vocabulary } from '../../api/client';
import { Button, Empty, Failed, Header, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Complaints, useComplaints } from './complaints';
import type { Fields, Known } from './complete';
import { Publish } from './Publish';
import { useText } from './useText';

const Editor = lazy(() => import('./Editor'));

export type Kind = 'rule' | 'runbook';

/** A text as it is written: of what is published, or of something new. */
export function useDesk(kind: Kind, found: DefinitionDetail | undefined, start: string) {
  const [text, setText] = useText(start);
  const [publishing, setPublishing] = useState(false);
  const name = new RegExp(`^${kind}:\\s*([\\w-]+)`, 'm').exec(text)?.[1] ?? found?.item.name ?? kind;
  const complaints = useComplaints(name, text);
  const edited = !found || text !== found.text;
  return { kind, found, text, setText, name, complaints, edited, publishing, setPublishing };
}

type Desk = ReturnType<typeof useDesk>;

/** The head of the page; `children` stands before what every one has. */
export function DeskHead({ desk, children }: { desk: Desk; children?: ReactNode }) {
  const { found, edited, complaints } = desk;
  const may = useMay('author');
  return (
    <Header
      title={found?.item.name ?? desk.name}
      right={
        <>
          {children}
          {edited && found && <Button onClick={() => desk.setText(found.text)}>Undo all</Button>}
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
      before={desk.found?.text ?? ''}
      text={desk.text}
      open={desk.publishing}
      onClose={(published) => {
        desk.setPublishing(false);
        if (published && desk.found?.item.name !== desk.name) navigate(`/${desk.kind}s/${desk.name}`);
      }}
    >
      {children}
    </Publish>
  );
}
