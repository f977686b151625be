// The versions of a definition, each with what it changed.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { versions } from '../../api/client';
import { Button, Panel, Unanswered } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { useMay } from '../../ui/rights';
import { Exact } from '../../ui/Time';
import { Difference } from './Difference';
import { Publish } from './Publish';

type VersionsProps = {
  kind: string;
  name: string;
  /** Takes the text of an earlier version; where it is not given, that is published as it is. */
  onBringBack?: (text: string) => void;
};

export function Versions({ kind, name, onBringBack }: VersionsProps) {
  const found = useQuery({
    queryKey: ['definitions', kind, name, 'versions'],
    queryFn: () => versions(kind, name),
  });
  const items = found.data?.items ?? [];
  const may = useMay('author');
  const [back, setBack] = useState<string>();
  const bring = onBringBack ?? setBack;
  return (
    <Panel title="Versions" aside={items.length}>
      <Unanswered question={found} />
      {items.map((v, i) => (
        <details key={v.version} className="border-line border-t py-1.5 first-of-type:border-t-0">
          <summary className="cursor-pointer text-[13px]">
            <b className="font-semibold">version {v.version}</b>{' '}
            <span className="text-ink-2">
              {v.withdrawn ? 'withdrawn' : 'published'} by {shown(v.published_by)},{' '}
              <Exact at={v.published_at} />
            </span>
          </summary>
          <div className="mt-1">
            {v.steps && Object.keys(v.steps).length > 0 && (
              <p className="mb-1 break-words text-[13px] text-ink-2">
                {`with the shared steps ${Object.entries(v.steps)
                  .map(([step, version]) => `${step} version ${version}`)
                  .join(', ')}`}
              </p>
            )}
            {items[i + 1] ? (
              <Difference before={items[i + 1]?.text ?? ''} after={v.text} />
            ) : (
              <pre className="whitespace-pre-wrap break-words">{v.text}</pre>
            )}
            {i > 0 && may && (
              <Button className="mt-1" onClick={() => bring(v.text)}>
                Bring version {v.version} back
              </Button>
            )}
          </div>
        </details>
      ))}
      {back !== undefined && (
        <Publish
          name={name}
          base={{ name, version: items[0]?.version ?? 0, text: items[0]?.text ?? '' }}
          text={back}
          open
          onClose={() => setBack(undefined)}
        />
      )}
    </Panel>
  );
}
