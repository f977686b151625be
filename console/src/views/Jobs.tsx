// What is being done, and what was.
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { jobs } from '../api/client';
import { Filter } from '../ui/filters';
import { Failed, Header } from '../ui/parts';
import { JobRows } from './JobRows';

const STATES = ['queued,running,waiting', 'succeeded', 'failed,refused,expired,unsure'] as const;

export function Component() {
  const [params] = useSearchParams();
  const state = params.get('state') ?? undefined;
  const found = useQuery({ queryKey: ['jobs', { state }], queryFn: () => jobs(state) });
  return (
    <>
      <Header title="Jobs" right={<Filter name="state" label="State" options={STATES} />} />
      {found.error && <Failed error={found.error} />}
      {found.data && <JobRows jobs={found.data.items} />}
    </>
  );
}
