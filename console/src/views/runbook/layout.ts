// Where the steps of a runbook stand when it is drawn: below each other, what stands within one side by side.
import type { OutlinePart, OutlineStep } from '../../api/client';

export type Box = { step: OutlineStep; x: number; y: number; w: number; h: number };
export type Label = { text: string; x: number; y: number; w: number };
export type Frame = { x: number; y: number; w: number; h: number };
export type Graph = {
  boxes: Box[];
  /** Paths of an SVG. */
  lines: string[];
  labels: Label[];
  frames: Frame[];
  width: number;
  height: number;
};

const WIDE = 216;
const LEAST = 120;
const ROW = 17;
const DOWN = 20;
const BESIDE = 22;
const LABEL = 20;
const PAD = 12;

type Size = { w: number; h: number };

const ways = (step: OutlineStep): OutlinePart[] =>
  (step.parts ?? []).filter((p) => p.label !== 'undo');
const undo = (step: OutlineStep) =>
  (step.parts ?? []).filter((p) => p.label === 'undo').flatMap((p) => p.steps);
/** Whether nothing comes behind a list of steps. */
const ends = (steps: OutlineStep[]) => steps.at(-1)?.kind === 'finish';

/** The lines of text in a box: its name, what it does, and as far as they are given when it runs and what follows a failure. */
export const rows = (step: OutlineStep): string[] => [
  step.summary ?? step.id,
  step.does,
  ...(step.when ? [`only when ${step.when}`] : []),
  ...(step.shared ? [`the shared step ${step.shared}`] : []),
  ...(step.on_error === 'continue' ? ['goes on after a failure'] : []),
  ...(step.on_error && step.on_error !== 'continue'
    ? [`after a failure on at ${step.on_error}`]
    : []),
  ...undo(step).map((back) => `taken back by ${back.summary ?? back.does}`),
];

const own = (step: OutlineStep) => rows(step).length * ROW + 12;

function list(steps: OutlineStep[]): Size {
  const sizes = steps.map(size);
  const h = sizes.reduce((sum, s) => sum + s.h, 0) + Math.max(0, steps.length - 1) * DOWN;
  return { w: Math.max(LEAST, ...sizes.map((s) => s.w)), h };
}

/** All ways beside each other, each below its label; the items of a list stand in a frame. */
function inner(step: OutlineStep): Size {
  const sizes = ways(step).map((way) => list(way.steps));
  const pad = step.kind === 'each' ? 2 * PAD : 0;
  const w = sizes.reduce((sum, s) => sum + s.w, 0) + (sizes.length - 1) * BESIDE + pad;
  return { w, h: LABEL + Math.max(...sizes.map((s) => s.h)) + pad };
}

function size(step: OutlineStep): Size {
  if (ways(step).length === 0) return { w: WIDE, h: own(step) };
  const within = inner(step);
  return { w: Math.max(WIDE, within.w), h: own(step) + DOWN + within.h + DOWN };
}

/** Draws a list of steps around a middle, from a height on. */
export function layout(steps: OutlineStep[]): Graph {
  const whole = list(steps);
  const graph: Graph = {
    boxes: [],
    lines: [],
    labels: [],
    frames: [],
    width: whole.w,
    height: whole.h,
  };
  // From a point to one below it, across at a height.
  const line = (x1: number, y1: number, x2: number, y2: number, across = y2) =>
    graph.lines.push(x1 === x2 ? `M${x1} ${y1}V${y2}` : `M${x1} ${y1}V${across}H${x2}V${y2}`);
  const one = (step: OutlineStep, middle: number, y: number) => {
    const h = own(step);
    graph.boxes.push({ step, x: middle - WIDE / 2, y, w: WIDE, h });
    if (ways(step).length === 0) return;
    const within = inner(step);
    const [top, below] = [y + h, y + size(step).h];
    let left = middle - within.w / 2;
    const inset = step.kind === 'each' ? PAD : 0;
    if (inset)
      graph.frames.push({ x: left, y: top + DOWN / 2, w: within.w, h: within.h + DOWN / 2 });
    left += inset;
    for (const way of ways(step)) {
      const wide = list(way.steps);
      const at = left + wide.w / 2;
      const from = top + DOWN + LABEL + inset;
      graph.labels.push({ text: way.label, x: left, y: from - LABEL, w: wide.w });
      line(middle, top, at, from, top + DOWN / 2);
      many(way.steps, at, from);
      if (!ends(way.steps)) line(at, from + wide.h, middle, below, below - DOWN / 2);
      left += wide.w + BESIDE;
    }
  };
  const many = (all: OutlineStep[], middle: number, from: number) => {
    let y = from;
    all.forEach((step, i) => {
      if (i > 0) line(middle, y - DOWN, middle, y);
      one(step, middle, y);
      y += size(step).h + DOWN;
    });
  };
  many(steps, whole.w / 2, 0);
  return graph;
}
