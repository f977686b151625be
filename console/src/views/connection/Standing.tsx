// How it stands with a connection, and how a call of it ended, in a word.
import type { CallState, Connection } from '../../api/client';
import { Tag, type Tone } from '../../ui/parts';

const TONES: Record<CallState, Tone> = {
  done: 'good',
  later: 'good',
  'not-sent': 'bad',
  refused: 'warn',
  unknown: 'bad',
  useless: 'bad',
};

export function Ended({ state }: { state: CallState }) {
  return <Tag tone={TONES[state]}>{state}</Tag>;
}

export function Standing({ of }: { of: Connection }) {
  if (of.trouble) return <Tag tone="bad">faulty</Tag>;
  if (!of.last_state) return <Tag>not used</Tag>;
  if (TONES[of.last_state] === 'good') return <Tag tone="good">well</Tag>;
  // It said no, or something odd: the other side is there.
  if (of.last_state === 'refused' || of.last_state === 'useless') return <Tag>answers</Tag>;
  return <Ended state={of.last_state} />;
}

/** A time in milliseconds, as people read it. */
export const millis = (ms: number) =>
  ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`;
