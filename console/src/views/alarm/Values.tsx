// The values of an alarm's alerts over time. Loaded where there are some.
import { useEffect, useRef } from 'react';
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { clock } from '../../ui/time';
import { useZone } from '../../ui/zone';

export type Point = { at: string; value: number };

const HEIGHT = 130;

export default function Values({ points, label }: { points: Point[]; label: string }) {
  const place = useRef<HTMLDivElement>(null);
  const zone = useZone();
  useEffect(() => {
    const box = place.current;
    if (!box) return;
    const ink = getComputedStyle(box);
    const colour = (name: string) => ink.getPropertyValue(name).trim();
    const axis = {
      stroke: colour('--ink-3'),
      grid: { stroke: colour('--line'), width: 1 },
      ticks: { stroke: colour('--line'), width: 1 },
      font: `11px ${ink.fontFamily}`,
    };
    const at = (seconds: number) => clock(new Date(seconds * 1000).toISOString(), zone);
    const plot = new uPlot(
      {
        width: box.clientWidth,
        height: HEIGHT,
        legend: { show: false },
        cursor: { points: { size: 6 } },
        series: [
          {},
          {
            stroke: colour('--sea'),
            width: 1.5,
            points: { show: points.length < 60, size: 5, fill: colour('--sea') },
          },
        ],
        axes: [
          { ...axis, size: 28, space: 90, values: (_, splits) => splits.map(at) },
          { ...axis, size: 46 },
        ],
      },
      [points.map((p) => Date.parse(p.at) / 1000), points.map((p) => p.value)],
      box,
    );
    const seen = new ResizeObserver(() => plot.setSize({ width: box.clientWidth, height: HEIGHT }));
    seen.observe(box);
    return () => {
      seen.disconnect();
      plot.destroy();
    };
  }, [points, zone]);
  return <div ref={place} role="img" aria-label={label} style={{ minHeight: HEIGHT }} />;
}
