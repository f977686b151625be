import { expect, test } from 'vitest';
import type { PlanEntry } from '../src/api/client';
import { days, on } from '../src/views/plan/days';
import { outcome, tone } from '../src/views/plan/entry';

const entry = (at: string, more: Partial<PlanEntry> = {}): PlanEntry => ({
  plan: 'new-fares',
  at,
  due: at,
  coming: true,
  times: 1,
  ...more,
});

test('weeks begin on a Monday, whatever day it is', () => {
  for (const now of ['2026-11-30T00:00:00Z', '2026-12-03T12:00:00Z', '2026-12-06T23:59:00Z']) {
    const all = days(new Date(now), 0, 1, true);
    expect(all[0]?.toISOString()).toBe('2026-11-30T00:00:00.000Z');
    expect(all).toHaveLength(7);
  }
  const before = days(new Date('2026-12-03T12:00:00Z'), -1, 1, true);
  expect(before[0]?.toISOString()).toBe('2026-11-23T00:00:00.000Z');
});

test('days of the own zone begin at its midnight, also where clocks are changed', () => {
  const all = days(new Date('2027-03-24T12:00:00Z'), 0, 2, false);
  expect(all.every((day) => day.getHours() === 0)).toBe(true);
  expect(new Set(all.map((day) => day.toDateString())).size).toBe(14);
});

test('many times of one plan that go the same way are one line, and others stand for themselves', () => {
  const [from, until] = [new Date('2026-12-03T00:00:00Z'), new Date('2026-12-04T00:00:00Z')];
  const many = Array.from({ length: 5 }, (_, i) => entry(`2026-12-03T0${i}:30:00Z`));
  const skipped = entry('2026-12-03T02:45:00Z', { omitted: 'skipped' });
  const other = entry('2026-12-03T01:00:00Z', { plan: 'patches' });
  const beyond = entry('2026-12-04T00:00:00Z');
  const standing = on([...many, skipped, other, beyond], from, until, outcome);
  expect(standing.map((s) => [s.entry.at.slice(11, 16), s.times])).toEqual([
    ['00:30', 5],
    ['01:00', 1],
    ['02:45', 1],
  ]);
});

test('what a freeze holds back too long is told from what waits for a while', () => {
  const frozen = { guard: 'no-fares', because: 'frozen', until: null, too_late: true };
  const held = entry('2026-12-03T00:30:00Z', { frozen });
  expect([outcome(held), tone(held)]).toEqual(['held back', 'warn']);
  const first = entry('2026-12-03T00:30:00Z', { frozen: { ...frozen, too_late: false } });
  expect(outcome(first)).toBe('held at first');
  const ran = entry('2026-12-03T00:30:00Z', { state: 'succeeded', effect: 'unconfirmed' });
  expect([outcome(ran), tone(ran)]).toEqual(['unconfirmed', 'bad']);
});
