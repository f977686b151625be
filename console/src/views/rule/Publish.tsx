// Publishing the text as it stands: what changes, and the evidence where it is allowed more.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { publish } from '../../api/client';
import { Button, Failed, Tag } from '../../ui/parts';
import { allowsMore, stanceOf } from './stance';
import { Difference } from './Versions';

export type Evidence = { verdict: string; count: number }[];

const MEANS: Record<string, string> = {
  watch: 'It only records what it would do.',
  propose: 'It proposes jobs; a person launches or dismisses each.',
  act: 'It dispatches jobs by itself.',
};

type Props = {
  name: string;
  before: string;
  text: string;
  evidence: Evidence;
  confirmed: number;
  jobs: number;
  open: boolean;
  onClose: (published: boolean) => void;
};

export function Publish({ name, before, text, evidence, confirmed, jobs, open, onClose }: Props) {
  const client = useQueryClient();
  const sent = useMutation({
    mutationFn: () => publish(`${name}.yaml`, text, false),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ['definitions'] });
      onClose(true);
    },
  });
  const [was, is] = [before ? stanceOf(before) : '', stanceOf(text)];
  const more = allowsMore(was, is);
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose(false)}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <Dialog.Content className="-translate-x-1/2 fixed top-[8vh] left-1/2 z-20 max-h-[84vh] w-[min(680px,94vw)] overflow-auto rounded-lg border border-line bg-panel p-4">
          <Dialog.Title className="font-bold text-[18px]">Publish {name}?</Dialog.Title>
          <Dialog.Description className="mb-2 text-ink-2">
            {before ? 'These lines change, on every node at once.' : 'It is new.'}
          </Dialog.Description>
          {before ? (
            <Difference before={before} after={text} />
          ) : (
            <pre className="max-h-80 overflow-auto whitespace-pre-wrap">{text}</pre>
          )}
          {was !== is && (
            <div className="mt-3 rounded-md border border-line p-3">
              <p>
                Stance {was && <Tag>{was}</Tag>} to <Tag tone={is === 'act' ? 'sea' : 'plain'}>{is}</Tag>{' '}
                <span className="text-ink-2">{MEANS[is]}</span>
              </p>
              {more && (
                <p className="mt-1 text-[13px] text-ink-2">
                  {evidence.length === 0
                    ? 'It has not matched a single alert so far. Rehearse it before you let it do more.'
                    : `So far: ${evidence.map((e) => `${e.count} ${e.verdict}`).join(', ')}; ${jobs} jobs, of which ${confirmed} helped.`}
                </p>
              )}
            </div>
          )}
          {sent.error && (
            <div className="mt-3">
              <Failed error={sent.error} />
            </div>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => onClose(false)}>Not yet</Button>
            <Button look="go" onClick={() => sent.mutate()} disabled={sent.isPending}>
              Publish
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
