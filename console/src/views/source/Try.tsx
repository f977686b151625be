// Making an alert of a source up: what would follow is shown, and nothing changes.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useId, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { type AlertDetail, alert, makeTrial } from '../../api/client';
import { Button, Failed, Panel } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';

const BLANK = {
  kind: 'disk.usage',
  severity: 'major',
  state: 'raised',
  resource: 'vm/quill-booking-db-1',
  value: 90,
  labels: {},
};

/** An alert in the normal form, as one writes it. */
function written({ alert: a, body }: AlertDetail) {
  const { kind, severity, state, resource, summary, value, labels } = a;
  return { kind, severity, state, resource, summary, value, labels, body };
}

export function Try({ source }: { source: string }) {
  const may = useMay('responder');
  const like = Number(useSearchParams()[0].get('like')) || undefined;
  const found = useQuery({
    queryKey: ['alerts', like],
    queryFn: () => alert(like ?? 0),
    enabled: like !== undefined,
  });
  if (!may) {
    return (
      <Panel title="Try it">
        <Needs least="responder">A trial</Needs>
      </Panel>
    );
  }
  if (like !== undefined && found.isPending) return null;
  const start = found.data ? written(found.data) : BLANK;
  return <Form key={like} source={source} start={JSON.stringify(start, null, 2)} />;
}

function Form({ source, start }: { source: string; start: string }) {
  const id = useId();
  const [text, setText] = useState(start);
  const [asSender, setAsSender] = useState(false);
  const queries = useQueryClient();
  const made = useMutation({
    mutationFn: () => {
      const value = read(text);
      return makeTrial(
        asSender
          ? { source, acting: false, payload: value }
          : { source, acting: false, alert: value },
      );
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ['alerts'] }),
  });
  return (
    <Panel title="Try it" aside="nothing changes">
      <form
        className="flex flex-col gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          made.mutate();
        }}
      >
        <label htmlFor={id} className="text-[13px] text-ink-2">
          {asSender ? 'What its sender would send' : 'An alert in the normal form'}
        </label>
        <textarea
          id={id}
          value={text}
          rows={Math.min(16, text.split('\n').length + 1)}
          spellCheck={false}
          onChange={(event) => setText(event.target.value)}
          className="mono w-full rounded-md border border-line bg-panel px-2.5 py-1.5 text-[12.5px] focus:border-sea"
        />
        <label className="flex items-center gap-2 text-[13px]">
          <input
            type="checkbox"
            checked={asSender}
            onChange={(event) => setAsSender(event.target.checked)}
          />
          It is a payload, to be read by the lines of the source
        </label>
        {made.error && <Failed error={made.error} />}
        <span className="flex flex-wrap items-center gap-3">
          <Button type="submit" disabled={made.isPending}>
            {made.isPending ? 'Trying' : 'Try it'}
          </Button>
          {made.data?.alerts.map(
            (taken) =>
              taken.seq && (
                <Link
                  key={taken.seq}
                  to={`/alerts/${taken.seq}`}
                  className="font-semibold text-sea hover:underline"
                >
                  What came of alert {taken.seq}
                </Link>
              ),
          )}
        </span>
      </form>
    </Panel>
  );
}

function read(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new Error(`This is not JSON: ${(error as Error).message}`);
  }
}
