// The definitions that name another.
import { Link } from 'react-router';
import type { DefinitionDetail } from '../../api/client';
import { definitionPath } from './paths';

/** Each with its kind and a link to its page; `none` is said where there is none. */
export function UsedBy({ users, none }: { users: DefinitionDetail['used_by']; none: string }) {
  if (!users || users.length === 0) return <p className="text-[13px] text-ink-3">{none}</p>;
  return (
    <ul className="flex flex-col gap-1 text-[13px]">
      {users.map(({ kind, name }) => {
        const to = definitionPath(kind, name);
        return (
          <li key={`${kind} ${name}`} className="flex flex-wrap items-baseline gap-x-2">
            <span className="w-20 text-ink-3">{kind}</span>
            {to ? (
              <Link to={to} className="font-semibold text-sea hover:underline">
                {name}
              </Link>
            ) : (
              <b className="font-semibold">{name}</b>
            )}
          </li>
        );
      })}
    </ul>
  );
}
