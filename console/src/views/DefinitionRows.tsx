// Published definitions of one kind as a list.
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import { type DefinitionItem, definitions } from '../api/client';
import { Empty, Failed, Header, Panel, Time } from '../ui/parts';

type Props = {
  kind: string;
  title: string;
  path: string;
  numbers: (item: DefinitionItem) => ReactNode;
  right?: ReactNode;
};

export function DefinitionRows({ kind, title, path, numbers, right }: Props) {
  const found = useQuery({ queryKey: ['definitions', kind], queryFn: () => definitions(kind) });
  return (
    <>
      <Header title={title} right={right}>
        {found.data && <span className="text-ink-2">{found.data.items.length} published</span>}
      </Header>
      {found.error && <Failed error={found.error} />}
      {found.data && (
        <Panel>
          {found.data.items.length === 0 && (
            <Empty>
              None is published. Write one, check it with <code>arvok check</code>, send it with{' '}
              <code>arvok publish</code>.
            </Empty>
          )}
          {found.data.items.map((item) => (
            <Link
              key={item.name}
              to={`${path}/${item.name}`}
              className="grid items-center gap-x-4 border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk md:grid-cols-[minmax(0,1fr)_320px_110px]"
            >
              <span className="min-w-0">
                <b className="font-semibold">{item.name}</b>{' '}
                <span className="text-ink-3">version {item.version}</span>
                <span className="block text-[13px] text-ink-2">{item.summary}</span>
              </span>
              <span className="flex flex-wrap items-center gap-x-3 text-[13px] text-ink-2">
                {numbers(item)}
              </span>
              <span className="text-[13px] text-ink-3 md:text-right">
                {item.used.last_at ? (
                  <>
                    <Time at={item.used.last_at} age /> ago
                  </>
                ) : (
                  'never yet'
                )}
              </span>
            </Link>
          ))}
        </Panel>
      )}
    </>
  );
}
