// Takes a text along.
import { useState } from 'react';
import { copyText } from './copyText';

/** A button that copies; `of` says what, for those who hear it. */
export function Copy({ text, of, shown = 'copy' }: { text: string; of: string; shown?: string }) {
  const [said, setSaid] = useState<string>();
  const copy = async () => {
    setSaid((await copyText(text)) ? 'copied' : 'not copied');
    setTimeout(() => setSaid(undefined), 1500);
  };
  return (
    <button
      type="button"
      aria-label={`${shown} ${of}`}
      onClick={copy}
      className="relative z-[1] rounded px-1 font-normal text-[11.5px] text-sea hover:underline print:hidden"
    >
      <span aria-live="polite">{said ?? shown}</span>
    </button>
  );
}
