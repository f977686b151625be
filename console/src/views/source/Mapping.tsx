// From what is kept of a source to its lines: what is suggested, and what the text as it is written makes of it.
import { useQuery } from '@tanstack/react-query';
import { suggestion, type TestedSource, testSource } from '../../api/client';
import { Button, Empty, Panel, Unanswered } from '../../ui/parts';
import { some } from '../../ui/words';
import { useRested } from '../definition/problems';

type Props = { source: string; text: string; onTake: (text: string) => void };

/** The text with these lines in place of those that it has. */
export function withRead(text: string, read: string): string {
  const lines = text.trimEnd().split('\n');
  const begin = lines.findIndex((line) => /^read:/.test(line));
  if (begin < 0) return `${lines.join('\n')}\n${read}`;
  const next = lines.findIndex((line, n) => n > begin && /^\S/.test(line));
  const rest = next < 0 ? [] : lines.slice(next);
  return `${[...lines.slice(0, begin), read.trimEnd(), ...rest].join('\n')}\n`;
}

export function Mapping({ source, text, onTake }: Props) {
  const asked = useRested(text);
  const suggested = useQuery({
    queryKey: ['suggestion', source],
    queryFn: () => suggestion(source),
  });
  const tested = useQuery({
    queryKey: ['tested', source, asked],
    queryFn: () => testSource(asked),
    placeholderData: (before) => before,
    retry: false,
  });
  const lines = suggested.data?.lines ?? [];
  const ofIntake = lines.find((line) => line.line === 'intake');
  return (
    <Panel title="From what is kept to alerts">
      <Unanswered question={suggested} />
      {suggested.data && lines.length === 0 && (
        <Empty>Nothing can be suggested by what is kept.</Empty>
      )}
      {lines.length > 0 && suggested.data && (
        <details className="pb-2">
          <summary className="cursor-pointer text-[13px] text-sea">
            Suggested lines, by which {suggested.data.readable} of{' '}
            {some(suggested.data.payloads, 'payload')} can be read
          </summary>
          <dl className="py-1.5 text-[12.5px]">
            {lines.map((line) => (
              <div key={line.line} className="border-line border-t py-1 first:border-t-0">
                <dt className="mono break-words">
                  {line.line}: {line.text}
                </dt>
                <dd className="text-ink-2">{line.why}</dd>
              </div>
            ))}
          </dl>
          {ofIntake && (
            <p className="text-[12.5px]">Write {ofIntake.text} into the intake yourself.</p>
          )}
          <Button onClick={() => onTake(withRead(text, suggested.data.read))}>
            Put them into the text
          </Button>
        </details>
      )}
      {tested.data && <Tested of={tested.data} />}
    </Panel>
  );
}

function Tested({ of }: { of: TestedSource }) {
  if (of.problems.length > 0) {
    return <p className="text-[13px] text-ink-2">The text has problems; nothing is read by it.</p>;
  }
  if (of.payloads.length === 0) return null;
  const good = of.payloads.filter((payload) => payload.unreadable.length === 0).length;
  return (
    <section aria-label="What the text makes of them">
      <p role="status" className="pb-1 text-[13px]">
        By the text as it stands here {good} of {some(of.payloads.length, 'payload')} can be read.
      </p>
      <ul className="max-h-72 overflow-auto text-[12.5px]">
        {of.payloads.map((payload) => (
          <li key={payload.id} className="border-line border-t py-1">
            <b>{payload.id}</b>{' '}
            {payload.alerts.map((alert) => (
              <span key={`${alert.id}`} className="block break-words">
                <span className="mono">{`${alert.kind}`}</span> {`${alert.severity}`},{' '}
                {`${alert.state}`}: {`${alert.resource}`}
                <span className="block text-ink-2">{`${alert.summary}`}</span>
              </span>
            ))}
            {payload.left_out > 0 && (
              <span className="text-ink-2">{payload.left_out} left out by keep </span>
            )}
            {payload.unreadable.map((why) => (
              <span key={why} className="block break-words text-bad">
                {why}
              </span>
            ))}
          </li>
        ))}
      </ul>
    </section>
  );
}
