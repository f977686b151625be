// What another stance means for a rule that is published, and the evidence where it is allowed more.
import { Tag } from '../../ui/parts';
import { allowsMore, stanceOf } from './stance';

const MEANS: Record<string, string> = {
  watch: 'It only records what it would do.',
  propose: 'It proposes jobs; a person launches or dismisses each.',
  act: 'It dispatches jobs by itself.',
};

type Props = {
  before: string;
  text: string;
  evidence: { verdict: string; count: number }[];
  confirmed: number;
  jobs: number;
};

export function NewStance({ before, text, evidence, confirmed, jobs }: Props) {
  const [was, is] = [before ? stanceOf(before) : '', stanceOf(text)];
  if (was === is) return null;
  return (
    <div className="mt-3 rounded-md border border-line p-3">
      <p>
        Stance {was && <Tag>{was}</Tag>} to <Tag tone={is === 'act' ? 'sea' : 'plain'}>{is}</Tag>{' '}
        <span className="text-ink-2">{MEANS[is]}</span>
      </p>
      {allowsMore(was, is) && (
        <p className="mt-1 text-[13px] text-ink-2">
          {evidence.length === 0
            ? 'It has not matched a single alert so far. Rehearse it before you let it do more.'
            : `So far: ${evidence.map((e) => `${e.count} ${e.verdict}`).join(', ')}; ${jobs} jobs, of which ${confirmed} helped.`}
        </p>
      )}
    </div>
  );
}
