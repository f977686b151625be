// A view that could not be opened or drawn: what happened, and another try. The frame around it stays.
import { useEffect } from 'react';
import { useLocation, useRouteError } from 'react-router';
import { Button, Header } from '../ui/parts';

const AGAIN = 2000;
/** What cannot be opened all the same is not opened again and again. */
const PATIENCE = 20_000;

/** The parts of a view are fetched when it is opened first: while the service is away, or was upgraded, they are not there. */
const isFetching = (error: unknown) =>
  error instanceof TypeError && /import|fetch|load/i.test(error.message);

export function Broken() {
  const error = useRouteError();
  const { pathname } = useLocation();
  const fetching = isFetching(error);
  useEffect(() => {
    if (!fetching) return;
    // As soon as the service answers the page is opened anew.
    const timer = setInterval(async () => {
      const answer = await fetch('/healthz', { cache: 'no-store' }).catch(() => undefined);
      const last = Number(sessionStorage.getItem('opened-again') ?? 0);
      if (!answer?.ok || Date.now() - last < PATIENCE) return;
      sessionStorage.setItem('opened-again', String(Date.now()));
      location.reload();
    }, AGAIN);
    return () => clearInterval(timer);
  }, [fetching]);
  return (
    <>
      <Header title="This view could not be shown" />
      <p role="alert" className="rounded-md bg-bad-soft px-3 py-2 text-bad">
        {fetching
          ? 'The service does not answer, or was upgraded since this page was opened. It is tried again.'
          : `Something in ${pathname} cannot be shown: ${error instanceof Error ? error.message : String(error)}`}
      </p>
      <p>
        <Button onClick={() => location.reload()}>Open it again</Button>
      </p>
    </>
  );
}
