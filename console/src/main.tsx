import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { RouterProvider } from 'react-router';
import { Refused } from './api/client';
import { keepFocus } from './focus';
import { router } from './routes';
import './styles.css';

// Whatever is refused for want of a session asks who is signed in, and the frame has one sign in again.
const refused = (error: Error) => {
  const was = error instanceof Refused && error.status === 401 && queries.getQueryData(['me']);
  if (was) void queries.invalidateQueries({ queryKey: ['me'] });
};

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    onError: (error, query) => query.queryKey[0] !== 'me' && refused(error),
  }),
  mutationCache: new MutationCache({ onError: refused, onMutate: keepFocus }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      refetchOnWindowFocus: false,
      // What is refused stays refused; what does not answer may be starting again.
      retry: (count, error) =>
        !(error instanceof Refused && error.status > 0 && error.status < 500) && count < 5,
    },
  },
});

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
