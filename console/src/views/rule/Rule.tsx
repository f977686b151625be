// One rule: its text in an editor that completes and checks, a rehearsal beside it, what
// came of it, its versions. A new rule starts here too, from an alert or from nothing.
import { useQuery } from '@tanstack/react-query';
import { ToggleGroup } from 'radix-ui';
import { Link, useParams, useSearchParams } from 'react-router';
import { definition, draft } from '../../api/client';
import { VerdictMark } from '../../ui/marks';
import { Empty, Facts, Lost, Panel } from '../../ui/parts';
import { shown } from '../../ui/principal';
import { Exact } from '../../ui/Time';
import { EditingHeader, EditorPanel, Publishing, useEditing } from '../definition/Editing';
import { Versions } from '../definition/Versions';
import { JobRows } from '../JobRows';
import { NewStance } from './NewStance';
import { Rehearsal } from './Rehearsal';
import { stanceOf, withStance } from './stance';
import { Try } from './Try';

const BLANK = `rule: name-of-the-rule
summary: What it does, in one line
stance: watch
listen:
  kinds: [disk.usage]
  severity: major..
settle:
  rest: 15m
dispatch:
  runbook: name-of-a-runbook
`;

type Found = Awaited<ReturnType<typeof definition>>;

export function Component() {
  const name = useParams().name ?? '';
  const found = useQuery({
    queryKey: ['definitions', 'rule', name],
    queryFn: () => definition('rule', name),
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Looking for {name}</Empty>;
  return <Page key={name} found={found.data} start={found.data.text} />;
}

/** A rule that does not exist yet. */
export function Start() {
  const from = Number(useSearchParams()[0].get('alert')) || undefined;
  const found = useQuery({
    queryKey: ['draft', from],
    queryFn: async () => (from ? (await draft(from)).text : BLANK),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (found.error && !found.data) return <Lost error={found.error} />;
  if (!found.data) return <Empty>Making a draft</Empty>;
  return <Page start={found.data} alert={from} />;
}

function Page({ found, start, alert }: { found?: Found; start: string; alert?: number }) {
  const editing = useEditing('rule', found, start);
  const { name, text, setText } = editing;
  return (
    <>
      <EditingHeader editing={editing}>
        <Stance value={stanceOf(text)} onChange={(to) => setText(withStance(text, to))} />
      </EditingHeader>
      <div className="grid gap-3.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1.15fr)]">
        <div className="flex min-w-0 flex-col gap-3.5">
          <EditorPanel editing={editing} title="Rule" />
          <Try name={name} text={text} edited={editing.edited} alert={alert} />
        </div>
        <div className="flex min-w-0 flex-col gap-3.5">
          <Rehearsal name={name} text={text} published={found !== undefined} />
          {found && <Results found={found} />}
          {found && <Versions kind="rule" name={found.item.name} onBringBack={setText} />}
        </div>
      </div>
      <Publishing editing={editing}>
        <NewStance
          before={found?.text ?? ''}
          text={text}
          evidence={found?.verdicts ?? []}
          confirmed={found?.item.used.confirmed ?? 0}
          jobs={found?.item.used.jobs ?? 0}
        />
      </Publishing>
    </>
  );
}

function Stance({ value, onChange }: { value: string; onChange: (to: string) => void }) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      onValueChange={(to) => to && onChange(to)}
      aria-label="Stance"
      className="flex overflow-hidden rounded-md border border-line"
    >
      {['watch', 'propose', 'act'].map((word) => (
        <ToggleGroup.Item
          key={word}
          value={word}
          className="bg-panel px-3 py-1 font-semibold text-[13px] data-[state=on]:bg-sea-soft data-[state=on]:text-sea"
        >
          {word}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

function Results({ found }: { found: Found }) {
  const { item, verdicts, jobs } = found;
  return (
    <Panel title="Results">
      <Facts
        rows={[
          [
            'matched',
            <Link
              key="m"
              to={`/alerts?rule=${item.name}`}
              className="font-semibold text-sea hover:underline"
            >
              {item.used.alerts} alerts
            </Link>,
          ],
          ['jobs', `${item.used.jobs}, of which ${item.used.confirmed} helped`],
          ['followed by', <Followers key="f" followers={found.followed_by ?? []} />],
          [
            'published',
            <span key="p">
              <Exact at={item.published_at} /> by {shown(item.published_by)}
            </span>,
          ],
        ]}
      />
      {(verdicts?.length ?? 0) > 0 && (
        <ul className="my-3 flex flex-wrap gap-x-6 gap-y-2 border-line border-t pt-3">
          {verdicts?.map((v) => (
            <li key={v.verdict}>
              <Link
                to={`/alerts?rule=${item.name}&verdict=${v.verdict}`}
                className="hover:underline"
              >
                <b className="block text-xl leading-tight">{v.count}</b>
                <VerdictMark verdict={v.verdict} />
              </Link>
            </li>
          ))}
        </ul>
      )}
      <JobRows jobs={jobs.slice(0, 6)} within />
    </Panel>
  );
}

/** Who listens for events of its proposals and jobs. */
function Followers({ followers }: { followers: NonNullable<Found['followed_by']> }) {
  if (followers.length === 0) return 'nobody is told of its proposals and jobs';
  return (
    <span className="flex flex-wrap gap-x-3">
      {followers.map(({ kind, name }) => (
        <span key={`${kind} ${name}`}>
          {kind}{' '}
          <Link to={`/${kind}s/${name}`} className="font-semibold text-sea hover:underline">
            {name}
          </Link>
        </span>
      ))}
    </span>
  );
}
