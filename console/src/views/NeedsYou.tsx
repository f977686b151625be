// What needs a person: each cause once, the jobs among it to be set aside one by one or several at once.
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import {
  type BrokenRule,
  type DecisionItem,
  type NeedsYou as Needing,
  type Watch as Seen,
  setSeen,
} from '../api/client';
import { Button, Empty, Failed, JobTag, Panel, Tag } from '../ui/parts';
import { useMay } from '../ui/rights';
import { Clock, Time } from '../ui/Time';
import { some } from '../ui/words';
import { waiting } from './headline';
import { SetSeen } from './job/Seen';
import { ProposalRow } from './proposal/Proposals';

/** What is shown of each kind; there may be more. */
const MOST = 50;

export function NeedsYou({ seen }: { seen: Seen }) {
  const may = useMay('responder');
  const queries = useQueryClient();
  const [ticked, setTicked] = useState<number[]>([]);
  const all = waiting(seen);
  const full = [seen.decisions, seen.needs_you, seen.proposals].some((part) => part.length >= MOST);
  // Of what nobody knows the end it is said what became of it; it is not set aside.
  const aside = seen.needs_you.filter((job) => job.state !== 'unsure').map((job) => job.id);
  const chosen = ticked.filter((id) => aside.includes(id));
  const see = useMutation({
    mutationFn: () => Promise.all(chosen.map((id) => setSeen(id))),
    onSettled: () => {
      setTicked([]);
      queries.invalidateQueries({ queryKey: ['jobs'] });
      return queries.invalidateQueries({ queryKey: ['watch'] });
    },
  });
  const tick = (id: number, on: boolean) =>
    setTicked(on ? [...chosen, id] : chosen.filter((one) => one !== id));
  return (
    <Panel title="Needs you" aside={full ? `${all} and more` : all}>
      {all === 0 && <Empty>Nothing.</Empty>}
      {seen.decisions.map((decision) => (
        <DecisionRow key={decision.id} decision={decision} />
      ))}
      {seen.broken?.map((rule) => (
        <BrokenRow key={rule.rule} broken={rule} />
      ))}
      {seen.proposals.map((proposal) => (
        <ProposalRow key={proposal.id} proposal={proposal} />
      ))}
      {may && aside.length > 1 && (
        <div className="flex flex-wrap items-center gap-2 border-line border-t py-2 text-[13px] first-of-type:border-t-0">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={chosen.length === aside.length}
              onChange={(event) => setTicked(event.target.checked ? aside : [])}
            />
            All that ended badly
          </label>
          <Button
            className="ml-auto"
            disabled={chosen.length === 0 || see.isPending}
            onClick={() => see.mutate()}
          >
            {chosen.length > 0 ? `Seen (${chosen.length})` : 'Seen'}
          </Button>
        </div>
      )}
      {see.error && <Failed error={see.error} />}
      {seen.needs_you.map((job) => (
        <JobRow
          key={job.id}
          job={job}
          ticked={chosen.includes(job.id)}
          onTick={may && job.state !== 'unsure' ? (on) => tick(job.id, on) : undefined}
          alone={aside.length === 1}
        />
      ))}
    </Panel>
  );
}

type JobRowProps = {
  job: Needing;
  ticked: boolean;
  /** Ticks it, where it can be set aside. */
  onTick?: (on: boolean) => void;
  /** Whether it is the only one that can be: then it has a button of its own. */
  alone: boolean;
};

function JobRow({ job, ticked, onTick, alone }: JobRowProps) {
  return (
    <div className="flex items-start gap-2 border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk">
      {onTick && !alone && (
        <input
          type="checkbox"
          className="mt-1"
          aria-label={`Job ${job.id}, ${job.runbook} on ${job.target}`}
          checked={ticked}
          onChange={(event) => onTick(event.target.checked)}
        />
      )}
      <div className="min-w-0 flex-1">
        <Link to={`/jobs/${job.id}`} className="block">
          <span className="flex items-start justify-between gap-2">
            <b className="font-semibold">{job.runbook}</b>
            <JobTag state={job.state} effect={job.effect} />
          </span>
          <span className="mono block break-all text-ink-2">{job.target}</span>
          <span className="block break-words text-[13px] text-ink-3">
            {job.failure ?? job.doing}
          </span>
          {!!job.earlier && (
            <span className="text-[13px] text-ink-3">and {job.earlier} before it</span>
          )}
        </Link>
        {onTick && alone && <SetSeen job={job.id} />}
      </div>
    </div>
  );
}

function DecisionRow({ decision }: { decision: DecisionItem }) {
  return (
    <Link
      to={`/jobs/${decision.job}`}
      className="block border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk"
    >
      <span className="flex items-start justify-between gap-2">
        <b className="font-semibold">{decision.runbook}</b>
        <Tag tone="warn">decide</Tag>
      </span>
      <span className="mono block break-all text-ink-2">{decision.target}</span>
      <span className="block text-[13px]">{decision.text}</span>
      <span className="text-[13px] text-ink-3">
        until <Clock at={decision.until} />
      </span>
    </Link>
  );
}

/** A rule that could not decide: nobody acts for these alerts until it is mended. */
function BrokenRow({ broken }: { broken: BrokenRule }) {
  return (
    <Link
      to={broken.alert ? `/alerts/${broken.alert}` : `/rules/${broken.rule}`}
      className="block border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk"
    >
      <span className="flex items-start justify-between gap-2">
        <b className="font-semibold">{broken.rule}</b>
        <Tag tone="bad">broken</Tag>
      </span>
      <span className="block text-[13px]">
        could not decide about {some(broken.alerts, 'alert')}, last <Time at={broken.last_at} />
      </span>
      {broken.reason && <span className="block text-[13px] text-ink-3">{broken.reason}</span>}
    </Link>
  );
}
