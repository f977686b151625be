// Making an alert of a source up: what would follow is shown, and nothing changes.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { type AlertDetail, alert, makeTrial } from '../../api/client';
import { JsonField, readJson } from '../../ui/JsonField';
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
  const [text, setText] = useState(start);
  const [asSender, setAsSender] = useState(false);
  const queries = useQueryClient();
  const made = useMutation({
    mutationFn: () => {
      const value = readJson(text, asSender ? 'The payload' : 'The alert');
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
        <JsonField
          label={asSender ? 'What its sender would send' : 'An alert in the normal form'}
          text={text}
          rows={Math.min(16, text.split('\n').length + 1)}
          onChange={setText}
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
