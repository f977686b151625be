// The steps of a runbook drawn: what follows what, which ways there are, what takes a step back.
import { useEffect, useMemo, useRef } from 'react';
import type { OutlineStep, RunbookOutline } from '../../api/client';
import { type Box, layout, rows } from './layout';

const FURTHER: Record<string, string> = {
  announce: 'Before it changes anything',
  confirm: 'How the effect is proved',
  otherwise: 'When the effect did not come',
  recover: 'When a step failed',
  always: 'At the end, whatever happened',
};

type Props = { outline: RunbookOutline; onChoose: (step: OutlineStep) => void };

export function Graph({ outline, onChoose }: Props) {
  return (
    <div className="flex flex-col gap-4">
      <Steps steps={outline.steps} label="Steps" onChoose={onChoose} />
      {outline.further.map((part) => (
        <div key={part.label}>
          <h3 className="mb-1.5 font-semibold text-[12px] text-ink-3">
            {FURTHER[part.label] ?? part.label}
          </h3>
          <Steps steps={part.steps} label={FURTHER[part.label] ?? part.label} onChoose={onChoose} />
        </div>
      ))}
    </div>
  );
}

function Steps({
  steps,
  label,
  onChoose,
}: {
  steps: OutlineStep[];
  label: string;
  onChoose: Props['onChoose'];
}) {
  const graph = useMemo(() => layout(steps), [steps]);
  const place = useRef<HTMLElement>(null);
  // What is wider than there is room for begins with its middle.
  useEffect(() => {
    if (place.current) place.current.scrollLeft = (graph.width - place.current.clientWidth) / 2;
  }, [graph]);
  return (
    <section
      ref={place}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
      tabIndex={0}
      aria-label={label}
      className="max-h-[72vh] overflow-auto pb-1"
    >
      <div className="relative mx-auto" style={{ width: graph.width, height: graph.height }}>
        {graph.frames.map((f) => (
          <div
            key={`${f.x} ${f.y}`}
            className="absolute rounded-lg border border-line bg-sunk/60"
            style={{ left: f.x, top: f.y, width: f.w, height: f.h }}
          />
        ))}
        <svg
          className="absolute inset-0"
          width={graph.width}
          height={graph.height}
          aria-hidden="true"
          fill="none"
        >
          {graph.lines.map((path) => (
            <path key={path} d={path} stroke="var(--ink-3)" strokeWidth="1.2" />
          ))}
        </svg>
        {graph.labels.map((l) => (
          <span
            key={`${l.x} ${l.y} ${l.text}`}
            title={l.text}
            className="absolute flex justify-center"
            style={{ left: l.x, top: l.y, width: l.w }}
          >
            <code className="truncate rounded bg-panel px-1.5 text-[11.5px] text-ink-2 leading-[18px]">
              {l.text}
            </code>
          </span>
        ))}
        {graph.boxes.map((box) => (
          <StepBox key={`${box.x} ${box.y}`} box={box} onChoose={onChoose} />
        ))}
      </div>
    </section>
  );
}

function StepBox({ box, onChoose }: { box: Box; onChoose: Props['onChoose'] }) {
  const [name, ...more] = rows(box.step);
  return (
    <button
      type="button"
      title={`${box.step.id}: ${rows(box.step).join('\n')}`}
      onClick={() => onChoose(box.step)}
      className="absolute overflow-hidden rounded-md border border-line bg-panel px-2 py-1 text-left hover:border-sea"
      style={{ left: box.x, top: box.y, width: box.w, height: box.h }}
    >
      <span className="flex items-baseline gap-1.5 text-[13px] leading-[17px]">
        <b className="min-w-0 flex-1 truncate font-semibold">{name}</b>
        <span className="text-[11px] text-sea">{box.step.kind}</span>
      </span>
      {more.map((row) => (
        <code key={row} className="block truncate text-[11.5px] text-ink-2 leading-[17px]">
          {row}
        </code>
      ))}
    </button>
  );
}
