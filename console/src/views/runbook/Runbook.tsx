// One runbook: its text in an editor that completes and checks, its steps drawn beside it, what came of it, what it
// needs and who uses it, its versions. A new runbook starts here too.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation, useParams } from 'react-router';
import { type DefinitionDetail, definition, outline, type RunbookOutline } from '../../api/client';
import { Empty, Lost, Panel } from '../../ui/parts';
import type { Fields } from '../definition/complete';
import { EditingHeader, EditorPanel, Publishing, useEditing } from '../definition/Editing';
import { useRested } from '../definition/problems';
import { Versions } from '../definition/Versions';
import { Graph } from './Graph';
import { Remembered } from './Remembered';
import { Results } from './Results';
import { TryStep } from './TryStep';
import { Uses } from './Uses';

const BLANK = `runbook: name-of-the-runbook
summary: What it does, in one line
inputs:
  vm: { type: string, format: resource, description: The machine }
target: \${inputs.vm}
steps:
  - id: look
    summary: What is done first
    require: 'true'
`;

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['definitions', 'runbook', name],
    queryFn: () => definition('runbook', name),
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  return <Page key={name} found={found.data} start={found.data.text} />;
}

/** A runbook that does not exist yet: a copy that was brought along, or a blank one. */
export function Start() {
  const brought: unknown = useLocation().state;
  return <Page start={typeof brought === 'string' ? brought : BLANK} />;
}

function Page({ found, start }: { found?: DefinitionDetail; start: string }) {
  const editing = useEditing('runbook', found, start);
  const [line, setLine] = useState<{ at: number }>();
  // While the text is not good it is drawn as it was when it was.
  const rested = useRested(editing.text);
  const drawn = useQuery({
    queryKey: ['outline', rested],
    queryFn: () => outline(rested),
    retry: false,
    staleTime: 60_000,
  });
  const [last, setLast] = useState<RunbookOutline>();
  if (drawn.data && drawn.data !== last) setLast(drawn.data);
  const shown = drawn.data ?? last;
  return (
    <>
      <EditingHeader editing={editing}>
        {found && !editing.edited && (
          <Link
            to={`/runbooks/${found.item.name}/launch`}
            className="font-semibold text-sea hover:underline"
          >
            Launch…
          </Link>
        )}
      </EditingHeader>
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1.05fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <EditorPanel
            editing={editing}
            title="Runbook"
            sees={(shown?.known ?? {}) as Fields}
            line={line}
          />
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel
            title="Steps"
            aside={drawn.error ? 'as the text was when it was good' : 'as the text stands'}
          >
            {shown ? (
              <Graph outline={shown} onChoose={(step) => setLine({ at: step.line })} />
            ) : (
              <Empty>
                {drawn.error ? 'There is nothing to draw until the text is good.' : 'Drawing'}
              </Empty>
            )}
          </Panel>
          {shown && <TryStep outline={shown} text={editing.text} />}
          {shown && <Uses outline={shown} found={found} />}
          {found && <Results found={found} />}
          {found && <Remembered runbook={found.item.name} />}
          {found && (
            <Versions kind="runbook" name={found.item.name} onBringBack={editing.setText} />
          )}
        </div>
      </div>
      <Publishing editing={editing} />
    </>
  );
}
