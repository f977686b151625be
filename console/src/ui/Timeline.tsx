// Things over time, above their list: a stretch of it is chosen with the mouse or the arrow keys, and
// stands in the address.
import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Slider } from 'radix-ui';
import { useEffect, useState } from 'react';
import { useSearchParams } from 'react-router';
import { Button, Failed } from './parts';
import { clockIn, exact } from './time';

const HOURS = { hour: 1, day: 24, week: 168 } as const;
type Window = keyof typeof HOURS;
const HEIGHT = 30;
const SMALL = 'px-2! py-0! text-[11.5px]! leading-5';

type Marked<M> = { from: string; to: string; step_seconds: number; marks: M[] };

/** What is shown over time. */
export type OverTime<M extends { at: string }> = {
  /** In the plural. */
  what: string;
  /** The first part is that of the list, so that both are asked for anew at the same changes. */
  queryKey: unknown[];
  ask: (since: string) => Promise<Marked<M>>;
  /** The layers of a bar from the bottom: the colour, what it means, and how high it is. */
  layers: readonly { colour: string; means: string; count: (mark: M) => number }[];
};

export function Timeline<M extends { at: string }>({ of }: { of: OverTime<M> }) {
  const [params, setParams] = useSearchParams();
  const window = (Object.keys(HOURS) as Window[]).find((w) => w === params.get('window')) ?? 'hour';
  const found = useQuery({
    queryKey: [...of.queryKey, window],
    queryFn: () => of.ask(new Date(Date.now() - HOURS[window] * 3_600_000).toISOString()),
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
      aria-label={`${of.what} over time`}
      className="rounded-lg border border-line bg-panel px-3.5 pt-2 pb-1.5"
    >
      {found.isPending && <div style={{ height: HEIGHT }} />}
      {found.error && <Failed error={found.error} />}
      {found.data && (
        <Stretch
          key={window}
          of={of}
          marks={found.data}
          since={params.get('since')}
          until={params.get('until')}
          onChoose={(since, until) => change({ since, until })}
        />
      )}
      <div className="mt-1 flex flex-wrap items-center gap-x-3 text-[11.5px] text-ink-3 leading-5">
        {of.layers.map(({ colour, means }) => (
          <Key key={means} colour={colour}>
            {means}
          </Key>
        ))}
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
      <span
        aria-hidden="true"
        className="inline-block size-2.5 rounded-sm"
        style={{ background: colour }}
      />
      {children}
    </span>
  );
}

type StretchProps<M extends { at: string }> = {
  of: OverTime<M>;
  marks: Marked<M>;
  since: string | null;
  until: string | null;
  onChoose: (since: string | undefined, until: string | undefined) => void;
};

function Stretch<M extends { at: string }>({ of, marks, since, until, onChoose }: StretchProps<M>) {
  const from = Date.parse(marks.from);
  const step = marks.step_seconds * 1000;
  const steps = Math.max(Math.ceil((Date.parse(marks.to) - from) / step), 2);
  const place = (at: string | null, otherwise: number) => {
    const moment = Date.parse(at ?? '');
    // A time that is none is told by the list below.
    if (Number.isNaN(moment)) return otherwise;
    return Math.min(Math.max(Math.round((moment - from) / step), 0), steps);
  };
  // While it is moved it is where the hand is; else where the address says.
  const [moved, setMoved] = useState<number[]>();
  const range = moved ?? [place(since, 0), place(until, steps)];
  const [first = 0, last = steps] = range;
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new address is where it has been moved to
  useEffect(() => setMoved(undefined), [since, until]);
  const moment = (n: number) => new Date(from + n * step).toISOString();
  const all = (mark: M) => of.layers.reduce((sum, layer) => sum + layer.count(mark), 0);
  const most = Math.max(...marks.marks.map(all), 1);
  const choose = ([a = 0, b = steps]: number[]) =>
    onChoose(a > 0 ? moment(a) : undefined, b < steps ? moment(b) : undefined);
  return (
    <Slider.Root
      min={0}
      max={steps}
      minStepsBetweenThumbs={1}
      value={range}
      onValueChange={setMoved}
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
          aria-label={`${marks.marks.reduce((sum, mark) => sum + all(mark), 0)} ${of.what.toLowerCase()} since ${exact(marks.from)}`}
          className="absolute inset-0 size-full"
        >
          {marks.marks.map((mark) => {
            const at = Math.round((Date.parse(mark.at) - from) / step);
            let bottom = HEIGHT;
            return (
              <g key={mark.at} opacity={at >= first && at < last ? 1 : 0.3}>
                {of.layers.map(({ colour, count }) => {
                  const n = count(mark);
                  const height = n > 0 ? Math.max((n / most) * (HEIGHT - 2), 1.5) : 0;
                  bottom -= height;
                  return (
                    <rect
                      key={colour}
                      x={at + 0.1}
                      y={bottom}
                      width="0.8"
                      height={height}
                      fill={colour}
                    />
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
          aria-valuetext={clockIn(moment(range[i] ?? 0))}
          className="block w-1.5 rounded-sm border border-ink-3 bg-panel outline-offset-2 hover:bg-sea focus:bg-sea"
          style={{ height: HEIGHT }}
        />
      ))}
    </Slider.Root>
  );
}
