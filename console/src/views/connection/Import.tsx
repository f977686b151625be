// A description of an API becomes a connector: choose its operations, see the file that comes out, publish it.
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { type Imported, importConnector } from '../../api/client';
import { Button, Empty, Failed, Header, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { some } from '../../ui/words';
import { Publish } from '../definition/Publish';
import { BOX } from '../launch/InputField';

export function Component() {
  const go = useNavigate();
  const may = useMay('author');
  const [text, setText] = useState('');
  const [name, setName] = useState('');
  const [chosen, setChosen] = useState<string[]>();
  const [publishing, setPublishing] = useState(false);
  const read = useMutation({
    mutationFn: () => importConnector(text, [], name || undefined),
    onSuccess: (all) => {
      // What takes something away is chosen by hand.
      const rest = all.operations
        .filter((o) => o.taken && !takesAway(o.request))
        .map((o) => o.name);
      if (rest.length < all.operations.filter((o) => o.taken).length) choose(rest);
    },
  });
  const make = useMutation({
    mutationFn: (only: string[]) => importConnector(text, only, name || undefined),
  });
  const choose = (only: string[]) => {
    setChosen(only);
    if (only.length > 0) make.mutate(only);
  };
  const made = chosen === undefined ? read.data : chosen.length > 0 ? make.data : undefined;
  const called = /^connection: (.+)$/m.exec(made?.text ?? '')?.[1] ?? name;
  return (
    <>
      <Header
        title="Import a description"
        right={
          may ? (
            <Button
              look="go"
              disabled={!made || make.isPending}
              onClick={() => setPublishing(true)}
            >
              Publish
            </Button>
          ) : (
            <Needs least="author">Publishing</Needs>
          )
        }
      >
        <span className="text-ink-2">OpenAPI 3.0 or 3.1, in JSON or YAML</span>
      </Header>
      <div className="grid gap-3.5 lg:grid-cols-2">
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="The description">
            <form
              className="flex flex-col gap-3"
              onSubmit={(e) => {
                e.preventDefault();
                setChosen(undefined);
                read.mutate();
              }}
            >
              <label className="flex flex-col gap-1">
                <span>A file</span>
                <input
                  type="file"
                  className="file:mr-2 file:rounded-md file:border file:border-line file:border-solid file:bg-panel file:px-2 file:py-1 file:font-semibold file:text-ink"
                  accept=".json,.yaml,.yml"
                  // The same file is read again when it is chosen again.
                  onClick={(e) => {
                    e.currentTarget.value = '';
                  }}
                  onChange={async (e) => setText((await e.target.files?.[0]?.text()) ?? text)}
                />
              </label>
              <label className="flex flex-col gap-1">
                <span>or its text</span>
                <textarea
                  className={`${BOX} mono`}
                  rows={read.data ? 4 : 12}
                  value={text}
                  onChange={(e) => setText(e.target.value)}
                />
              </label>
              <label className="flex flex-col gap-1">
                <span>Name of the connection</span>
                <input
                  className={BOX}
                  placeholder="made of the title"
                  value={name}
                  onChange={(e) => setName(e.target.value.trim())}
                />
              </label>
              <Button
                type="submit"
                className="self-start"
                disabled={text.trim() === '' || read.isPending}
              >
                Read it
              </Button>
              {read.error && <Failed error={read.error} />}
            </form>
          </Panel>
          {read.data && <Choose of={read.data} chosen={chosen} onChoose={choose} />}
        </div>
        <Panel
          title="The connector"
          aside={made && some(made.operations.filter((o) => o.taken).length, 'operation')}
        >
          {make.error && <Failed error={make.error} />}
          {!made && (
            <Empty>{chosen ? 'Choose at least one operation.' : 'Read a description first.'}</Empty>
          )}
          {made && made.left_out.length > 0 && (
            <details className="pb-2" open={made.left_out.length < 8}>
              <summary className="cursor-pointer text-warn">
                {some(made.left_out.length, 'thing')} left out
              </summary>
              <ul className="list-disc pl-5 text-[13px] text-ink-2">
                {made.left_out.map((one) => (
                  <li key={one}>{one}</li>
                ))}
              </ul>
            </details>
          )}
          {made && (
            <pre
              // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
              tabIndex={0}
              className="max-h-[70vh] overflow-auto whitespace-pre-wrap break-words"
            >
              {made.text}
            </pre>
          )}
        </Panel>
      </div>
      {made && (
        <Publish
          name={called}
          text={made.text}
          open={publishing}
          onClose={(published) => {
            setPublishing(false);
            if (published) go(`/connections/${called}`);
          }}
        />
      )}
    </>
  );
}

type ChooseProps = {
  of: Imported;
  chosen: string[] | undefined;
  onChoose: (only: string[]) => void;
};

/** All operations of the description, to be searched and ticked. */
function Choose({ of, chosen, onChoose }: ChooseProps) {
  const [typed, setTyped] = useState('');
  const taken = chosen ?? of.operations.filter((o) => o.taken).map((o) => o.name);
  const found = of.operations.filter((o) =>
    `${o.name} ${o.request} ${o.summary ?? ''}`.toLowerCase().includes(typed.trim().toLowerCase()),
  );
  const tick = (name: string) =>
    onChoose(taken.includes(name) ? taken.filter((n) => n !== name) : [...taken, name]);
  return (
    <Panel title={of.title} aside={`${taken.length} of ${of.operations.length}`}>
      <div className="flex gap-2 pb-2">
        <input
          className={BOX}
          aria-label="Search the operations"
          placeholder="Search"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <Button
          onClick={() => onChoose(found.filter((o) => usable(of, o.name)).map((o) => o.name))}
        >
          {typed.trim() ? 'These' : 'All'}
        </Button>
        <Button onClick={() => onChoose([])}>None</Button>
      </div>
      <ul className="max-h-[46vh] overflow-auto">
        {found.map((o) => (
          <li key={o.name} className="border-line border-t">
            <label className="flex items-baseline gap-2 py-1">
              <input
                type="checkbox"
                checked={taken.includes(o.name)}
                disabled={!usable(of, o.name)}
                onChange={() => tick(o.name)}
              />
              <b className="break-words">{o.name}</b>
              <span className="min-w-0 flex-1 text-[13px] text-ink-2">{o.summary}</span>
              <code className="break-words text-ink-3">{o.request}</code>
            </label>
          </li>
        ))}
      </ul>
    </Panel>
  );
}

/** Whether a request takes something away (RFC 9110, section 9.3.5). */
const takesAway = (request: string) => request.startsWith('DELETE ');

/** What could not be taken over cannot be chosen. */
const usable = (of: Imported, name: string) =>
  of.operations.some((o) => o.name === name && o.taken);
