// One ready-made runbook: its steps drawn, its text, what it needs; how the copies here differ from it; and a copy to adapt.
import { useMutation, useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import {
  connections,
  copyReadyMade,
  definition,
  type LibraryItem,
  outline,
  readyMade,
} from '../../api/client';
import { Button, Empty, Failed, Header, Lost, Panel, Unanswered } from '../../ui/parts';
import { some } from '../../ui/words';
import { Difference } from '../definition/Difference';
import { BOX } from '../launch/InputField';
import { Graph } from '../runbook/Graph';
import { Uses } from '../runbook/Uses';

const Editor = lazy(() => import('../definition/Editor'));

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['definitions', 'library', name],
    queryFn: () => readyMade(name),
  });
  const text = found.data?.text ?? '';
  const drawn = useQuery({
    queryKey: ['outline', text],
    queryFn: () => outline(text),
    enabled: text !== '',
  });
  const [line, setLine] = useState<{ at: number }>();
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const { item } = found.data;
  return (
    <>
      <Header
        title={name}
        right={
          <Link to="/library" className="font-semibold text-sea hover:underline">
            The whole library
          </Link>
        }
      >
        <span className="text-ink-2">{item.runbook.summary}</span>
      </Header>
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1.05fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Copy key={name} item={item} />
          <Panel title="Steps">
            {drawn.error && <Failed error={drawn.error} />}
            {drawn.data ? (
              <Graph outline={drawn.data} onChoose={(step) => setLine({ at: step.line })} />
            ) : (
              <Empty>Drawing</Empty>
            )}
          </Panel>
          {drawn.data && <Uses outline={drawn.data} />}
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="Copies here" aside={item.copies.length}>
            {item.copies.length === 0 && (
              <Empty>Nothing that is published was copied from it.</Empty>
            )}
            {item.copies.map((copy) => (
              <Copied key={copy.name} copy={copy} text={text} />
            ))}
          </Panel>
          <Panel title="Text" aside={some(item.runbook.examples, 'example')}>
            <Suspense fallback={<Empty>Opening the text</Empty>}>
              <Editor
                key={name}
                label="Text of the ready-made runbook"
                text={text}
                onChange={() => {}}
                problems={[]}
                known={undefined}
                readOnly
                line={line}
              />
            </Suspense>
          </Panel>
        </div>
      </div>
    </>
  );
}

/** What a copy that is published here has otherwise than the library. */
function Copied({ copy, text }: { copy: LibraryItem['copies'][number]; text: string }) {
  const own = useQuery({
    queryKey: ['definitions', 'runbook', copy.name],
    queryFn: () => definition('runbook', copy.name),
    enabled: !copy.same,
  });
  return (
    <div className="border-line border-t py-1.5 first-of-type:border-t-0">
      <p className="text-[13px]">
        <Link to={`/runbooks/${copy.name}`} className="font-semibold text-sea hover:underline">
          {copy.name}
        </Link>{' '}
        <span className="text-ink-2">
          version {copy.version},{' '}
          {copy.same ? 'as it stands in the library' : 'with changes of its own:'}
        </span>
      </p>
      {!copy.same && <Unanswered question={own} />}
      {own.data && <Difference before={text} after={own.data.text} />}
    </div>
  );
}

/** A copy under a name of one's own and over one's own connections, to be adapted before it is published. */
function Copy({ item }: { item: LibraryItem }) {
  const go = useNavigate();
  const { runbook, missing } = item;
  const [name, setName] = useState(item.copies.length > 0 ? `our-${runbook.name}` : runbook.name);
  const [via, setVia] = useState<Record<string, string>>({});
  const [needs, setNeeds] = useState(true);
  const known = useQuery({ queryKey: ['connections'], queryFn: connections });
  const made = useMutation({
    mutationFn: () => copyReadyMade(runbook.name, { name, via, with_needs: needs }),
    onSuccess: (copied) => go('/runbooks/new', { state: copied.text }),
  });
  const instead = (from: string, to: string) =>
    setVia(({ [from]: _, ...rest }) => (to === '' ? rest : { ...rest, [from]: to }));
  const left = missing.filter((m) => !(m in via));
  return (
    <Panel title="Make it your own">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          made.mutate();
        }}
      >
        <label className="flex flex-col gap-1">
          <span>Name of the copy</span>
          <input className={BOX} value={name} onChange={(e) => setName(e.target.value.trim())} />
        </label>
        {runbook.connections.map((from) => (
          <label key={from} className="flex flex-col gap-1">
            <span>
              Instead of <code>{from}</code> it calls
            </span>
            <select
              className={BOX}
              value={via[from] ?? ''}
              onChange={(e) => instead(from, e.target.value)}
            >
              <option value="">the same</option>
              {(known.data?.items ?? [])
                .filter((c) => c.name !== from)
                .map((c) => (
                  <option key={c.name}>{c.name}</option>
                ))}
            </select>
          </label>
        ))}
        {left.length > 0 && (
          <label className="flex items-baseline gap-2">
            <input type="checkbox" checked={needs} onChange={(e) => setNeeds(e.target.checked)} />
            <span>
              With what is missing here: <code>{left.join(', ')}</code>
            </span>
          </label>
        )}
        <Button
          type="submit"
          look="go"
          className="self-start"
          disabled={name === '' || made.isPending}
        >
          Copy and adapt
        </Button>
        {made.error && <Failed error={made.error} />}
      </form>
    </Panel>
  );
}
