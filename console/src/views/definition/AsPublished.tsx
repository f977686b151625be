// The text of a definition as it is published, and its versions.
import { useQuery } from '@tanstack/react-query';
import { definition } from '../../api/client';
import { Panel } from '../../ui/parts';
import { Versions } from './Versions';

export function AsPublished({ kind, name }: { kind: string; name: string }) {
  const text = useQuery({
    queryKey: ['definitions', kind, name],
    queryFn: () => definition(kind, name),
  });
  return (
    <>
      {text.data && (
        <Panel title="As published" aside={`version ${text.data.item.version}`}>
          <pre className="whitespace-pre-wrap break-words">{text.data.text.trimEnd()}</pre>
        </Panel>
      )}
      <Versions kind={kind} name={name} />
    </>
  );
}
