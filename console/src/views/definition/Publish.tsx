// Publishing the text as it stands: what changes, and what else is to be thought of.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import type { ReactNode } from 'react';
import { publish } from '../../api/client';
import { Button, Failed } from '../../ui/parts';
import { Difference } from './Versions';

type Props = {
  name: string;
  before: string;
  text: string;
  open: boolean;
  onClose: (published: boolean) => void;
  children?: ReactNode;
};

export function Publish({ name, before, text, open, onClose, children }: Props) {
  const client = useQueryClient();
  const sent = useMutation({
    mutationFn: () => publish(`${name}.yaml`, text, false),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ['definitions'] });
      onClose(true);
    },
  });
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
          {children}
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
