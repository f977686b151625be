// How it stands with a subscriber, in a word.
import type { Subscriber } from '../../api/client';
import { Tag, type Tone } from '../../ui/parts';

const TONES: Record<Subscriber['state'], Tone> = {
  asked: 'warn',
  confirmed: 'good',
  gone: 'plain',
  faulty: 'bad',
};

export function Standing({ of }: { of: Subscriber }) {
  if (of.state === 'confirmed' && of.failures > 0) return <Tag tone="bad">failing</Tag>;
  return <Tag tone={TONES[of.state]}>{of.state}</Tag>;
}
