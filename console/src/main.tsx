import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { Tooltip } from 'radix-ui';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { RouterProvider } from 'react-router';
import { Refused } from './api/client';
import { router } from './routes';
import './styles.css';

const queries = new QueryClient({
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
        <Tooltip.Provider delayDuration={300}>
          <RouterProvider router={router} />
        </Tooltip.Provider>
      </QueryClientProvider>
    </StrictMode>,
  );
}
