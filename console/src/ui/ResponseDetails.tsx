// An answer as it came back: its status, its body unless that is shown already as what was made of it, and its headers.
import type { CallAnswer } from '../api/client';
import { Json } from './parts';

export function ResponseDetails({ answer, gave }: { answer: CallAnswer; gave: unknown }) {
  const same = JSON.stringify(answer.body) === JSON.stringify(gave);
  return (
    <>
      <h3 className="font-semibold text-[12px] text-ink-3">Answered</h3>
      <code className="text-ink-2">{answer.status}</code>
      {answer.body != null && answer.body !== '' && !same && <Json value={answer.body} />}
      {Object.keys(answer.headers ?? {}).length > 0 && (
        <details className="text-[13px]">
          <summary className="cursor-pointer text-ink-3">Headers</summary>
          <Json value={answer.headers} />
        </details>
      )}
    </>
  );
}
