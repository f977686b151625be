// What a runbook needs, whether that is there, and who uses it.
import { Link } from 'react-router';
import type { DefinitionDetail, RunbookOutline } from '../../api/client';
import { Panel, Tag } from '../../ui/parts';

const WHERE: Record<string, string> = { rule: '/rules', runbook: '/runbooks' };

/** What it needs, whether that is there, what it was copied from, and who uses it. */
export function Uses({ outline, found }: { outline: RunbookOutline; found?: DefinitionDetail }) {
  const users = found?.used_by ?? [];
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
        {outline.connections.length + outline.runbooks.length === 0 && (
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
              to={`${WHERE[u.kind]}/${u.name}`}
              className="font-semibold text-sea hover:underline"
            >
              {u.name}
            </Link>
          </li>
        ))}
        {found && users.length === 0 && (
          <li className="text-ink-3">No rule and no other runbook uses it.</li>
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
