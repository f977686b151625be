// What a rehearsal draws: the ticks and dispatches of each lane, the stretch of time, the marks of its axis.
import type { RehearsalReport, RehearsalResult } from '../../api/client';

export type Tick = { at: number; verdict: string; reason: string };
export type Dispatch = { at: number; reason: string; only: boolean };
export type Row = { ticks: Tick[]; dispatches: Dispatch[] };

/** The last verdict of each alert, and the dispatches, by the fold's values. */
export function rows(report: RehearsalReport, only: number[]): Map<string, Row> {
  const made = new Map<string, Row>(
    report.tallies.map((lane) => [lane.key, { ticks: [], dispatches: [] }]),
  );
  const row = (lane: number | null | undefined) => made.get(report.tallies[lane ?? -1]?.key ?? '');
  const last = new Map(report.decided.map((r) => [r.alert, r]));
  for (const r of last.values()) {
    row(r.tally)?.ticks.push({ at: Date.parse(r.came), verdict: r.verdict, reason: r.reason });
  }
  for (const p of report.dispatched) {
    for (const lane of p.tallies) {
      row(lane)?.dispatches.push({
        at: Date.parse(p.at),
        reason: p.reason,
        only: only.includes(p.job),
      });
    }
  }
  return made;
}

export function marks(from: number, to: number): { at: number; label: string }[] {
  const span = to - from;
  const steps = [
    1e3,
    5e3,
    15e3,
    60e3,
    300e3,
    900e3,
    3600e3,
    3 * 3600e3,
    6 * 3600e3,
    86400e3,
    7 * 86400e3,
  ];
  const step = steps.find((s) => span / s <= 6) ?? 14 * 86400e3;
  const first = Math.ceil(from / step) * step;
  const day = step >= 86400e3;
  return Array.from({ length: Math.max(0, Math.floor((to - first) / step) + 1) }, (_, i) => {
    const at = first + i * step;
    const t = new Date(at).toISOString();
    return { at, label: day ? t.slice(5, 10) : t.slice(11, step < 60e3 ? 19 : 16) };
  });
}

/** The time that is worth drawing: from the first alert that matched to the last thing that happened. */
export function span(result: RehearsalResult): [number, number] {
  const reports = [result.now, ...(result.before ? [result.before] : [])];
  const times = reports.flatMap((r) => [
    ...r.decided.flatMap((one) => [Date.parse(one.came), Date.parse(one.at)]),
    ...r.dispatched.map((p) => Date.parse(p.at)),
  ]);
  if (times.length === 0) return [Date.parse(result.from), Date.parse(result.to)];
  const first = times.reduce((a, b) => Math.min(a, b));
  const last = times.reduce((a, b) => Math.max(a, b));
  const margin = Math.max(1000, (last - first) * 0.04);
  return [
    Math.max(Date.parse(result.from), first - margin),
    Math.min(Date.parse(result.to), last + margin),
  ];
}
