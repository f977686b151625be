// What stands.
import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { alarms } from '../api/client';
import { Filter } from '../ui/filters';
import { Gauge } from '../ui/marks';
import { Empty, Failed, Header, JobTag, Panel, Time } from '../ui/parts';

export function Component() {
  const [params] = useSearchParams();
  const state = params.get('state') ?? undefined;
  const found = useQuery({ queryKey: ['alarms', state], queryFn: () => alarms(state) });
  const items = found.data?.items ?? [];
  return (
    <>
      <Header title="Alarms" right={<Filter name="state" label="State" options={['raised', 'cleared']} />} />
      {found.error && <Failed error={found.error} />}
      {found.isSuccess && (
        <Panel>
          {items.length === 0 && <Empty>No alarm is like that.</Empty>}
          {items.map((a) => {
            const cleared = a.state === 'cleared';
            return (
              <Link
                key={a.id}
                to={`/alarms/${a.id}`}
                className="grid grid-cols-[16px_1fr_auto] items-center gap-3 border-line border-t py-2 first-of-type:border-t-0 hover:bg-sunk md:grid-cols-[16px_minmax(0,1.2fr)_minmax(0,1fr)_90px_120px_120px]"
              >
                <Gauge severity={a.severity} cleared={cleared} />
                <span className="min-w-0">
                  <span className="mono block truncate font-semibold">{a.resource}</span>
                  <span className="text-[13px] text-ink-2">{a.kind}</span>
                </span>
                <span className="hidden truncate text-ink-2 md:block">{a.summary}</span>
                <span className="hidden text-ink-2 md:block">
                  {a.count === 1 ? '1 alert' : `${a.count} alerts`}
                </span>
                <span className="hidden text-ink-2 md:block">
                  {cleared ? 'ended ' : 'for '}
                  {cleared ? a.cleared_at && <Time at={a.cleared_at} /> : <Time at={a.raised_at} age />}
                </span>
                <span className="text-right">
                  {a.job_state ? (
                    <JobTag state={a.job_state} effect={a.job_effect} />
                  ) : (
                    <span className="text-[13px] text-ink-3">no job</span>
                  )}
                </span>
              </Link>
            );
          })}
        </Panel>
      )}
    </>
  );
}
