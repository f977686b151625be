// One runbook: its text, and how it has fared.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { definition } from '../api/client';
import { Empty, Facts, Header, Lost, Panel } from '../ui/parts';
import { exact } from '../ui/time';
import { JobRows } from './JobRows';

export function Runbook() {
  const kind = 'runbook';
  const name = useParams().name ?? '';
  const found = useQuery({ queryKey: ['definitions', kind, name], queryFn: () => definition(kind, name) });
  if (found.error) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  const { item, text, jobs } = found.data;
  return (
    <>
      <Header
        title={item.name}
        right={
          <Link to={`/runbooks/${name}/launch`} className="font-semibold text-sea hover:underline">
            Launch…
          </Link>
        }
      >
        <span className="text-ink-2">{item.summary}</span>
      </Header>
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)]">
        <Panel title="As published" aside={`version ${item.version}`} className="self-start">
          <Source text={text} />
        </Panel>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Panel title="How it has fared">
            <Facts
              rows={[
                ['jobs', item.used.jobs],
                ['helped', item.used.confirmed],
                ['published', `${exact(item.published_at)} by ${item.published_by}`],
              ]}
            />
          </Panel>
          <Panel title="Newest jobs" aside={jobs.length}>
            <JobRows jobs={jobs} within />
          </Panel>
        </div>
      </div>
    </>
  );
}

/** The document with line numbers; keys stand out. */
function Source({ text }: { text: string }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls must be reachable by keyboard
    <pre tabIndex={0} className="overflow-x-auto whitespace-pre-wrap break-words leading-[1.62]">
      {text
        .trimEnd()
        .split('\n')
        .map((line, i) => {
          const [, indent, key, rest] = /^(\s*(?:- )?)([\w-]+:)?(.*)$/.exec(line) ?? ['', '', '', line];
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: the lines of a text are told apart by nothing else
            <span key={i} className="block pl-7 -indent-7">
              <span className="inline-block w-7 select-none indent-0 text-ink-3">{i + 1}</span>
              {indent}
              {key && <b className="font-semibold text-sea">{key}</b>}
              <span className={line.trim().startsWith('#') ? 'text-ink-3' : ''}>{rest}</span>
            </span>
          );
        })}
    </pre>
  );
}
