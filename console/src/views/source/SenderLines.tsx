// What a sender of a source needs: lines to type, and scripts to install.
import type { DefinitionDetail } from '../../api/client';
import { Copy } from '../../ui/Copy';
import { Panel } from '../../ui/parts';

type Line = NonNullable<DefinitionDetail['sender_lines']>[number];

export function SenderLines({ lines }: { lines: Line[] }) {
  if (lines.length === 0) return null;
  return (
    <Panel title="What a sender needs" aside="KEY is the secret of the source">
      {lines.map((line) => (
        <One key={line.title} line={line} />
      ))}
    </Panel>
  );
}

function One({ line }: { line: Line }) {
  const text = line.text.replaceAll('{address}', location.origin).trimEnd();
  const shown = (
    <pre className="mono max-h-72 overflow-auto whitespace-pre-wrap break-words rounded-md bg-sunk p-2 text-[12px]">
      {text}
    </pre>
  );
  return (
    <div className="mt-2 first-of-type:mt-0">
      <h3 className="flex items-baseline justify-between gap-3 text-[12.5px] text-ink-2">
        {line.title}
        <Copy text={text} of={line.title} />
      </h3>
      {text.includes('\n') ? (
        <details>
          <summary className="cursor-pointer text-[12.5px] text-sea">
            {text.split('\n').length} lines
          </summary>
          {shown}
        </details>
      ) : (
        shown
      )}
    </div>
  );
}
