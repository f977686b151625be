// Alerts over time, above their list: a stretch of it is chosen with the mouse or the arrow keys, and
// stands in the address.
import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Slider } from 'radix-ui';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { type Timeline as Marks, timeline } from '../api/client';
import { Button } from './parts';
import { clock, exact } from './time';

const HOURS = { hour: 1, day: 24, week: 168 } as const;
type Window = keyof typeof HOURS;
const HEIGHT = 30;
const SMALL = 'px-2! py-0! text-[11.5px]! leading-5';

/** The layers of a bar from the bottom: what was acted on, what was held, what needed nothing. */
const layers = (mark: Marks['marks'][number]) =>
  [
    [mark.dispatched + mark.proposed, 'var(--sea)'],
    [mark.held + mark.watched, 'var(--sev-3)'],
    [mark.folded + mark.unmatched, 'var(--ink-3)'],
  ] as const;

export function Timeline() {
  const [params, setParams] = useSearchParams();
  const window = (Object.keys(HOURS) as Window[]).find((w) => w === params.get('window')) ?? 'hour';
  const found = useQuery({
    queryKey: ['alerts', 'timeline', window],
    queryFn: () => timeline(new Date(Date.now() - HOURS[window] * 3_600_000).toISOString()),
  });
  const change = (set: Record<string, string | undefined>) =>
    setParams((before) => {
      const next = new URLSearchParams(before);
      for (const [name, value] of Object.entries(set)) {
        if (value === undefined) next.delete(name);
        else next.set(name, value);
      }
      return next;
    });
  const chosen = params.has('since') || params.has('until');
  return (
    <section
      aria-label="Alerts over time"
      className="rounded-lg border border-line bg-panel px-3.5 pt-2 pb-1.5"
    >
      {found.data && (
        <Stretch
          key={`${window} ${params.get('since')} ${params.get('until')}`}
          marks={found.data}
          since={params.get('since')}
          until={params.get('until')}
          onChoose={(since, until) => change({ since, until })}
        />
      )}
      <div className="mt-1 flex flex-wrap items-center gap-x-3 text-[11.5px] text-ink-3 leading-5">
        <Key colour="var(--sea)">dispatched or proposed</Key>
        <Key colour="var(--sev-3)">held or watched</Key>
        <Key colour="var(--ink-3)">folded or no rule</Key>
        <span className="ml-auto flex gap-1">
          {chosen && (
            <Button
              look="quiet"
              className={SMALL}
              onClick={() => change({ since: undefined, until: undefined })}
            >
              Whole {window}
            </Button>
          )}
          {(Object.keys(HOURS) as Window[]).map((w) => (
            <Button
              key={w}
              look="quiet"
              aria-pressed={w === window}
              className={clsx(SMALL, w === window && 'bg-sea-soft')}
              onClick={() =>
                change({ window: w === 'hour' ? undefined : w, since: undefined, until: undefined })
              }
            >
              {w}
            </Button>
          ))}
        </span>
      </div>
    </section>
  );
}

function Key({ colour, children }: { colour: string; children: string }) {
  return (
    <span className="flex items-center gap-1.5">
      <span aria-hidden="true" className="inline-block size-2.5 rounded-sm" style={{ background: colour }} />
      {children}
    </span>
  );
}

type StretchProps = {
  marks: Marks;
  since: string | null;
  until: string | null;
  onChoose: (since: string | undefined, until: string | undefined) => void;
};

function Stretch({ marks, since, until, onChoose }: StretchProps) {
  const from = Date.parse(marks.from);
  const step = marks.step_seconds * 1000;
  const steps = Math.max(Math.ceil((Date.parse(marks.to) - from) / step), 2);
  const place = (at: string | null, otherwise: number) =>
    at ? Math.min(Math.max(Math.round((Date.parse(at) - from) / step), 0), steps) : otherwise;
  const [range, setRange] = useState([place(since, 0), place(until, steps)]);
  const [first = 0, last = steps] = range;
  const moment = (n: number) => new Date(from + n * step).toISOString();
  const all = (mark: Marks['marks'][number]) => layers(mark).reduce((sum, [n]) => sum + n, 0);
  const most = Math.max(...marks.marks.map(all), 1);
  const choose = ([a = 0, b = steps]: number[]) =>
    onChoose(a > 0 ? moment(a) : undefined, b < steps ? moment(b) : undefined);
  return (
    <Slider.Root
      min={0}
      max={steps}
      minStepsBetweenThumbs={1}
      value={range}
      onValueChange={setRange}
      onValueCommit={choose}
      className="relative flex touch-none select-none items-center"
      style={{ height: HEIGHT }}
    >
      <Slider.Track className="relative h-full grow">
        <Slider.Range
          className={clsx('absolute h-full rounded', (first > 0 || last < steps) && 'bg-sea-soft')}
        />
        <svg
          viewBox={`0 0 ${steps} ${HEIGHT}`}
          preserveAspectRatio="none"
          role="img"
          aria-label={`${marks.marks.reduce((sum, mark) => sum + all(mark), 0)} alerts since ${exact(marks.from)}`}
          className="absolute inset-0 size-full"
        >
          {marks.marks.map((mark) => {
            const at = Math.round((Date.parse(mark.at) - from) / step);
            let bottom = HEIGHT;
            return (
              <g key={mark.at} opacity={at >= first && at < last ? 1 : 0.3}>
                {layers(mark).map(([n, colour]) => {
                  const height = n > 0 ? Math.max((n / most) * (HEIGHT - 2), 1.5) : 0;
                  bottom -= height;
                  return (
                    <rect key={colour} x={at + 0.1} y={bottom} width="0.8" height={height} fill={colour} />
                  );
                })}
              </g>
            );
          })}
        </svg>
      </Slider.Track>
      {(['From', 'Until'] as const).map((name, i) => (
        <Slider.Thumb
          key={name}
          aria-label={name}
          aria-valuetext={clock(moment(range[i] ?? 0))}
          className="block w-1 rounded bg-ink-3 outline-offset-2 hover:bg-sea focus:bg-sea"
          style={{ height: HEIGHT }}
        />
      ))}
    </Slider.Root>
  );
}
