// Runners: what makes calls near where they go, and how each was last heard of.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type RunnerItem, runners } from '../../api/client';
import { Tag, Unanswered } from '../../ui/parts';
import { type Look, Table } from '../../ui/Table';
import { rough } from '../../ui/time';
import { some } from '../../ui/words';

/** A runner asks for calls at least so often, in seconds. */
const SILENT = 30;

const state = ({ lag }: RunnerItem) => {
  if (lag == null) return <Tag>never heard of</Tag>;
  return lag > SILENT ? <Tag tone="bad">silent</Tag> : <Tag tone="good">there</Tag>;
};

const labels = (of: Record<string, string>) =>
  Object.entries(of)
    .map(([name, value]) => `${name}=${value}`)
    .join(', ');

const serves = (runner: RunnerItem) => labels(runner.serves ?? runner.labels);

/** How far its clock is ahead of the database's, where that can be seen. */
const clock = ({ clock_offset: behind }: RunnerItem) => {
  if (behind == null) return '';
  return Math.abs(behind) < 0.5
    ? 'exact'
    : `${behind < 0 ? '+' : '-'}${rough(Math.abs(behind) * 1000)}`;
};

const LOOK: Look<RunnerItem> = {
  to: () => undefined,
  columns: [
    {
      head: 'Runner',
      width: 'minmax(0,0.8fr)',
      mono: true,
      cell: (r) => <b>{r.name}</b>,
      by: (r) => r.name,
    },
    { head: 'State', width: '116px', cell: state },
    { head: 'Serves', width: 'minmax(0,1fr)', mono: true, cell: serves, by: serves },
    { head: 'Version', width: '76px', quiet: true, cell: (r) => r.build },
    {
      head: 'Heard',
      width: '76px',
      right: true,
      quiet: true,
      cell: (r) => (r.lag == null ? '' : rough(r.lag * 1000)),
    },
    {
      head: 'Calls',
      width: '76px',
      right: true,
      cell: (r) => (r.at_once == null ? '' : `${r.calls} of ${r.at_once}`),
      by: (r) => r.calls,
    },
    { head: 'Clock', width: '76px', right: true, quiet: true, cell: clock },
    {
      head: 'Connections',
      width: 'minmax(0,1.2fr)',
      cell: (r) =>
        r.connections.map((name, n) => (
          <span key={name}>
            {n > 0 && ', '}
            <Link to={`/connections/${name}`} className="text-sea hover:underline">
              {name}
            </Link>
          </span>
        )),
    },
  ],
  narrow: (r) => [
    <>
      <b key="name" className="mono min-w-0 flex-1 truncate">
        {r.name}
      </b>
      {state(r)}
    </>,
    <span key="rest" className="min-w-0 flex-1 truncate">
      {serves(r)}
    </span>,
  ],
};

/** The runners; nothing where there are none. */
export function Runners() {
  const found = useQuery({ queryKey: ['runners'], queryFn: runners, refetchInterval: 5000 });
  if (found.data?.length === 0) return null;
  return (
    <>
      <header className="flex items-baseline gap-x-3.5">
        <h2 className="font-bold text-[17px]">Runners</h2>
        {found.data && <span className="text-ink-2">{some(found.data.length, 'runner')}</span>}
      </header>
      <Unanswered question={found} />
      {found.data && <Table items={found.data} id={(r) => r.name} look={LOOK} label="Runners" />}
    </>
  );
}
