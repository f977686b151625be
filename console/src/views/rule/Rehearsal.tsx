// Replaying stored alerts through the text as it stands, saved or not.
import { useRef, useState } from 'react';
import { type RehearsalResult, rehearse, type Verdict } from '../../api/client';
import { VerdictMark } from '../../ui/marks';
import { Button, Empty, Failed, Panel } from '../../ui/parts';
import { Exact } from '../../ui/Time';
import { rough } from '../../ui/time';
import { Lanes } from './Lanes';

const SPANS = ['1h', '6h', '1d', '7d', '30d'];
/** Dispatches that are listed. */
const LISTED = 8;

type State =
  | { is: 'idle' }
  | { is: 'running'; alerts: number; of?: number | null }
  | { is: 'done'; result: RehearsalResult; took: number }
  | { is: 'failed'; error: Error };

export function Rehearsal({
  name,
  text,
  published,
}: {
  name: string;
  text: string;
  published: boolean;
}) {
  const [since, setSince] = useState('1d');
  const [state, setState] = useState<State>({ is: 'idle' });
  const running = useRef<AbortController>(null);

  const start = async () => {
    running.current?.abort();
    const abort = new AbortController();
    running.current = abort;
    const begun = performance.now();
    setState({ is: 'running', alerts: 0 });
    try {
      await rehearse(
        { file: { file: `${name}.yaml`, text }, rule: null, since, against_published: published },
        abort.signal,
        (line) => {
          if ('progress' in line) setState({ is: 'running', ...line.progress });
          if ('result' in line)
            setState({ is: 'done', result: line.result, took: performance.now() - begun });
          if ('failed' in line) setState({ is: 'failed', error: new Error(line.failed.detail) });
        },
      );
    } catch (error) {
      setState(abort.signal.aborted ? { is: 'idle' } : { is: 'failed', error: error as Error });
    }
  };

  const aside =
    state.is === 'done'
      ? `${state.result.now.alerts.toLocaleString('en')} alerts, ${state.result.now.matched.toLocaleString('en')} matched, in ${rough(state.took)}`
      : 'as if it acted; nothing is changed';
  return (
    <Panel title="Rehearsal" aside={aside}>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <label className="flex items-center gap-2 text-[13px] text-ink-2">
          The last
          <select
            value={since}
            onChange={(event) => setSince(event.target.value)}
            className="rounded-md border border-line bg-panel px-2 py-1 text-ink"
          >
            {SPANS.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        {state.is === 'running' ? (
          <Button onClick={() => running.current?.abort()}>Stop</Button>
        ) : (
          <Button look="go" onClick={start}>
            Rehearse
          </Button>
        )}
        {state.is === 'running' && (
          <progress
            className="h-2 w-48 accent-[var(--sea)]"
            aria-label="Alerts gone through"
            value={state.alerts}
            max={state.of ?? undefined}
          />
        )}
      </div>
      {state.is === 'failed' && <Failed error={state.error} />}
      {state.is === 'idle' && (
        <Empty>See what this text would have done with the alerts that came.</Empty>
      )}
      {state.is === 'done' && <Outcome result={state.result} />}
    </Panel>
  );
}

function Outcome({ result }: { result: RehearsalResult }) {
  const { now, before, difference } = result;
  const given = [...Object.keys(now.verdicts), ...Object.keys(before?.verdicts ?? {})] as Verdict[];
  const verdicts = [...new Set(given)].sort(
    (a, b) => (now.verdicts[b] ?? 0) - (now.verdicts[a] ?? 0),
  );
  const fewer = (difference?.only_before.length ?? 0) - (difference?.only_now.length ?? 0);
  return (
    <>
      <ul className="mb-3 flex flex-wrap gap-x-7 gap-y-2">
        <li>
          <b className="block text-[22px] leading-tight">{now.dispatches}</b>
          {now.dispatches === 1 ? 'dispatch' : 'dispatches'}
          {before && <span className="block text-[12px] text-ink-3">{before.dispatches} live</span>}
        </li>
        {verdicts.map((word) => (
          <li key={word}>
            <b className="block text-[22px] leading-tight">{now.verdicts[word] ?? 0}</b>
            <VerdictMark verdict={word} />
            {before && (
              <span className="block text-[12px] text-ink-3">
                {before.verdicts[word] ?? 0} live
              </span>
            )}
          </li>
        ))}
      </ul>
      {now.broken > 0 && (
        <Failed error={new Error(`It went wrong over ${now.broken} alerts: ${now.broken_first}`)} />
      )}
      <Lanes result={result} />
      {now.matched === 0 && <Empty>No alert of that time matches.</Empty>}
      {difference && (
        <p className="mt-2 text-[13px] text-ink-2">
          {difference.only_now.length + difference.only_before.length === 0
            ? 'The same dispatches as the live version.'
            : `${Math.abs(fewer)} ${Math.abs(fewer) === 1 ? 'dispatch' : 'dispatches'} ${fewer >= 0 ? 'fewer' : 'more'} than live: ${difference.only_now.length} new, ${difference.only_before.length} no longer made (outlined).`}
        </p>
      )}
      {now.dispatched.length > 0 && (
        <ul className="mt-3 border-line border-t">
          {now.dispatched.slice(0, LISTED).map((p) => (
            <li key={p.job} className="border-line border-b py-1.5 text-[13px]">
              <span className="flex flex-wrap gap-x-3">
                <b className="font-semibold">{p.runbook}</b>
                <span className="text-ink-3">
                  <Exact at={p.at} />
                </span>
              </span>
              <code className="block break-all text-ink-2">
                {p.error ?? JSON.stringify(p.inputs)}
              </code>
              <span className="text-ink-3">{p.reason}</span>
            </li>
          ))}
          {now.dispatched.length > LISTED && (
            <li className="py-1.5 text-[13px] text-ink-3">
              and {now.dispatched.length - LISTED} more
            </li>
          )}
        </ul>
      )}
    </>
  );
}
