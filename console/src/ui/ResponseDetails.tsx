// An answer as it came back: its status, its body unless that is shown already as what was made of it, and its headers. Of a
// command or a script: how it ended, and what it wrote.
import type { CallAnswer } from '../api/client';
import { isProgram } from './curl';
import { Json, Written } from './parts';

/** The status of what was ended by a signal, or for what it used. */
const BY_FORCE = 65535;

const WITHOUT_STATUS = ['NETCONF', 'LIBVIRT', 'SNMP', 'MQTT', 'AMQP', 'ARVOK', 'VISIT'];

type Props = { answer: CallAnswer; gave: unknown; method?: string };

export function ResponseDetails({ answer, gave, method }: Props) {
  const same = JSON.stringify(answer.body) === JSON.stringify(gave);
  const headers = (answer.headers ?? {}) as Record<string, unknown>;
  if (isProgram(method)) {
    const wrote = [
      ['Standard output', same ? '' : answer.body],
      ['Standard error', headers.stderr],
    ] as const;
    return (
      <>
        <h3 className="font-semibold text-[12px] text-ink-3">Ended</h3>
        <span className="text-ink-2">
          {answer.status === BY_FORCE ? 'by force' : `with status ${answer.status}`}
        </span>
        {wrote.map(([of, text]) => (
          <Written key={of} of={of} text={text} />
        ))}
      </>
    );
  }
  // A device answers without a status, in XML, a hypervisor and an agent in values, and a broker by what it says of a message.
  if (method && WITHOUT_STATUS.includes(method)) {
    const words =
      typeof answer.body === 'string' ? answer.body : JSON.stringify(answer.body, null, 2);
    return <Written of="Answered" text={same ? '' : words} />;
  }
  return (
    <>
      <h3 className="font-semibold text-[12px] text-ink-3">Answered</h3>
      <code className="text-ink-2">{answer.status}</code>
      {answer.body != null && answer.body !== '' && !same && <Json value={answer.body} />}
      {Object.keys(headers).length > 0 && (
        <details className="text-[13px]">
          <summary className="cursor-pointer text-ink-3">Headers</summary>
          <Json value={headers} />
        </details>
      )}
    </>
  );
}
