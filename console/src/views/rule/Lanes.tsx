// A rehearsal as lanes: one for each tally, time from left to right, each alert a tick with its
// verdict, each dispatch a post; the published version stands below the new one.
import { useEffect, useMemo, useRef, useState } from 'react';
import type { RehearsalResult } from '../../api/client';
import { exact } from '../../ui/time';
import { marks, type Row, rows, span, type Tick } from './laneData';

const LEFT = 198;
const TOP = 26;
/** Lanes that are drawn; the busiest come first. */
const DRAWN = 12;
/** Ticks of one lane that can be told apart. */
const TICKS = 300;

/** The width that there is, in pixels, so that letters keep their size. */
function useWidth() {
  const place = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(560);
  useEffect(() => {
    if (!place.current) return;
    const observer = new ResizeObserver(
      ([entry]) => entry && setWidth(Math.max(320, entry.contentRect.width)),
    );
    observer.observe(place.current);
    return () => observer.disconnect();
  }, []);
  return { place, width };
}

export function Lanes({ result }: { result: RehearsalResult }) {
  const { now, before, difference } = result;
  const { place, width } = useWidth();
  const [from, to] = useMemo(() => span(result), [result]);
  const x = (at: number) => LEFT + ((at - from) / Math.max(1, to - from)) * (width - LEFT - 16);
  const drawn = useMemo(() => {
    const newer = rows(now, difference?.only_now ?? []);
    const older = before ? rows(before, difference?.only_before ?? []) : undefined;
    const lanes = new Map(
      [...(before?.tallies ?? []), ...now.tallies].map((lane) => [lane.key, lane]),
    );
    const weight = (key: string) =>
      (newer.get(key)?.dispatches.length ?? 0) * 1000 +
      (newer.get(key)?.ticks.length ?? 0) +
      (older?.get(key)?.dispatches.length ?? 0) * 1000;
    const keys = [...lanes.keys()].sort((a, b) => weight(b) - weight(a));
    return { newer, older, lanes, keys };
  }, [now, before, difference]);
  const each = drawn.older ? 62 : 40;
  const shown = drawn.keys.slice(0, DRAWN);
  const height = TOP + shown.length * each + 8;
  if (shown.length === 0) return null;
  return (
    <div ref={place}>
      <svg width={width} height={height} role="img" aria-label="Verdicts by tally over time">
        {marks(from, to).map((m) => (
          <g key={m.at}>
            <line x1={x(m.at)} x2={x(m.at)} y1={TOP - 6} y2={height - 6} stroke="var(--line)" />
            {x(m.at) < width - 64 && (
              <text x={x(m.at) + 3} y={TOP - 12} fontSize="12" fill="var(--ink-3)">
                {m.label}
              </text>
            )}
          </g>
        ))}
        {shown.map((key, i) => {
          const y = TOP + i * each + 18;
          const lane = drawn.lanes.get(key);
          return (
            <g key={key}>
              <text x="0" y={y + 3} fontSize="12.5" fontWeight="600" fill="var(--ink)">
                {(lane?.resource ?? key).replace(/^(.{24}).+$/, '$1…')}
              </text>
              <text x="0" y={y + 17} fontSize="11.5" fill="var(--ink-3)">
                {lane?.kind}
              </text>
              <Line
                row={drawn.newer.get(key)}
                y={y}
                x={x}
                label={drawn.older ? 'new' : ''}
                end={width - 10}
              />
              {drawn.older && (
                <Line
                  row={drawn.older.get(key)}
                  y={y + 28}
                  x={x}
                  label="live"
                  end={width - 10}
                  pale
                />
              )}
            </g>
          );
        })}
      </svg>
      {drawn.keys.length > DRAWN && (
        <p className="text-[13px] text-ink-3">
          The {DRAWN} tallies with the most dispatches of {drawn.keys.length}
          {now.cut ? ' and more' : ''}.
        </p>
      )}
    </div>
  );
}

function Line({
  row,
  y,
  x,
  label,
  end,
  pale,
}: {
  row: Row | undefined;
  y: number;
  x: (at: number) => number;
  label: string;
  end: number;
  pale?: boolean;
}) {
  const ticks = row?.ticks ?? [];
  const skip = Math.ceil(ticks.length / TICKS);
  return (
    <g opacity={pale ? 0.75 : 1}>
      <text x={LEFT - 6} y={y - 2} fontSize="11" textAnchor="end" fill="var(--ink-3)">
        {label}
      </text>
      <line x1={LEFT} x2={end} y1={y} y2={y} stroke="var(--line)" />
      {ticks
        .filter((_, i) => i % skip === 0)
        .map((t, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: alerts of one moment are told apart by nothing else
          <TickMark key={i} tick={t} x={x(t.at)} y={y} />
        ))}
      {row?.dispatches.map((p, i) => (
        <path
          // biome-ignore lint/suspicious/noArrayIndexKey: as above
          key={i}
          d={`M${x(p.at)} ${y + 5}v-20l8 4-8 4`}
          fill={pale ? 'var(--ink-3)' : 'var(--sea)'}
          stroke={p.only ? 'var(--sev-4)' : pale ? 'var(--ink-3)' : 'var(--sea)'}
          strokeWidth={p.only ? 2 : 1.4}
        >
          <title>{`${exact(new Date(p.at).toISOString())}: ${p.reason}`}</title>
        </path>
      ))}
    </g>
  );
}

function TickMark({ tick, x, y }: { tick: Tick; x: number; y: number }) {
  const said = `${exact(new Date(tick.at).toISOString())} ${tick.verdict}: ${tick.reason}`;
  if (tick.verdict === 'folded' || tick.verdict === 'dispatched') {
    const solid = tick.verdict === 'dispatched';
    return (
      <line
        x1={x}
        x2={x}
        y1={y - (solid ? 5 : 3)}
        y2={y + (solid ? 5 : 3)}
        stroke={solid ? 'var(--sea)' : 'var(--ink-3)'}
        strokeWidth="1.4"
      >
        <title>{said}</title>
      </line>
    );
  }
  return (
    <circle cx={x} cy={y} r="3" fill="var(--panel)" stroke="var(--ink-3)" strokeWidth="1.2">
      <title>{said}</title>
    </circle>
  );
}
