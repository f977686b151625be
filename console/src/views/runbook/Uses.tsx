// What a runbook needs, whether that is there, and who uses it.
import { Link } from 'react-router';
import type { DefinitionDetail, OutlineStep, RunbookOutline } from '../../api/client';
import { Panel, Tag } from '../../ui/parts';
import { definitionPath } from '../definition/paths';

/** The shared steps that it uses, each once. */
function sharedSteps({ steps, further }: RunbookOutline): string[] {
  const within = (all: OutlineStep[]): string[] =>
    all.flatMap((step) => [
      ...(step.shared ? [step.shared] : []),
      ...(step.parts ?? []).flatMap((part) => within(part.steps)),
    ]);
  return [...new Set([...within(steps), ...further.flatMap((part) => within(part.steps))])];
}

/** What it needs, whether that is there, what it was copied from, and who uses it. */
export function Uses({ outline, found }: { outline: RunbookOutline; found?: DefinitionDetail }) {
  const users = found?.used_by ?? [];
  const shared = sharedSteps(outline);
  const from = /^copied_from:\s*([\w-]+)/m.exec(found?.text ?? '')?.[1];
  return (
    <Panel title={found ? 'Needs, and who uses it' : 'Needs'}>
      <ul className="flex flex-col gap-1 text-[13px]">
        {outline.connections.map((c) => (
          <Need key={c.name} what="connection" need={c} />
        ))}
        {outline.runbooks.map((r) => (
          <Need key={r.name} what="runbook" need={r} />
        ))}
        {shared.map((name) => (
          <li key={name} className="flex flex-wrap items-baseline gap-x-2">
            <span className="w-20 text-ink-3">step</span>
            <Link to={`/steps/${name}`} className="font-semibold text-sea hover:underline">
              {name}
            </Link>
          </li>
        ))}
        {outline.connections.length + outline.runbooks.length + shared.length === 0 && (
          <li className="text-ink-3">It calls nothing outside.</li>
        )}
        {from && (
          <li className="flex flex-wrap items-baseline gap-x-2">
            <span className="w-20 text-ink-3">copied from</span>
            <Link to={`/library/${from}`} className="font-semibold text-sea hover:underline">
              {from}
            </Link>
            <span className="text-ink-2">of the library</span>
          </li>
        )}
        {users.map((u) => (
          <li key={`${u.kind} ${u.name}`} className="flex flex-wrap items-baseline gap-x-2">
            <span className="w-20 text-ink-3">used by</span>
            {u.kind}
            <Link
              to={definitionPath(u.kind, u.name) ?? ''}
              className="font-semibold text-sea hover:underline"
            >
              {u.name}
            </Link>
          </li>
        ))}
        {found && users.length === 0 && (
          <li className="text-ink-3">No rule, plan or other runbook uses it.</li>
        )}
      </ul>
    </Panel>
  );
}

function Need({
  what,
  need,
}: {
  what: 'connection' | 'runbook';
  need: RunbookOutline['connections'][number];
}) {
  return (
    <li className="flex flex-wrap items-baseline gap-x-2">
      <span className="w-20 text-ink-3">{what}</span>
      {need.published ? (
        <Link to={`/${what}s/${need.name}`} className="font-semibold text-sea hover:underline">
          {need.name}
        </Link>
      ) : (
        <b className="font-semibold">{need.name}</b>
      )}
      <code className="min-w-0 break-words text-ink-2">{need.operations.join(', ')}</code>
      {!need.published && <Tag tone="bad">not published</Tag>}
    </li>
  );
}
