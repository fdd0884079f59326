import '@mantine/core/styles.css';
import './style.css';
import { createTheme, MantineProvider } from '@mantine/core';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, RouterProvider } from 'react-router';
import { RequestError, signInByLink } from './api/client';
import { AccessPage } from './features/access/AccessPage';
import { AccountsPage } from './features/access/AccountsPage';
import { AuditPage } from './features/access/AuditPage';
import { DataPage } from './features/data/DataPage';
import { SqlPage } from './features/data/SqlPage';
import { MetadataPage } from './features/metadata/MetadataPage';
import { PublishingPage } from './features/publishing/PublishingPage';
import { ServicePage } from './features/services/ServicePage';
import { ServicesPage } from './features/services/ServicesPage';
import { SourcesPage } from './features/sources/SourcesPage';
import { Frame } from './components/Frame';
import { NotFound } from './components/States';

const theme = createTheme({
  primaryColor: 'cyan',
  primaryShade: 9,
  autoContrast: true,
  defaultRadius: 'sm',
  fontFamily: 'system-ui, "Segoe UI", "DejaVu Sans", sans-serif',
  fontFamilyMonospace: 'ui-monospace, "DejaVu Sans Mono", monospace',
  headings: { fontWeight: '650' },
});

const queryClient = new QueryClient({
  queryCache: new QueryCache({
    // A session that has ended leads back to signing in.
    onError: (error) => {
      if (error instanceof RequestError && error.status === 401)
        void queryClient.invalidateQueries({ queryKey: ['session'] });
    },
  }),
  defaultOptions: {
    queries: {
      // A refusal stays a refusal; only silence is worth asking again.
      retry: (failures, error) => failures < 2 && error instanceof RequestError && error.status === 0,
      refetchOnWindowFocus: false,
    },
  },
});

const router = createBrowserRouter(
  [
    {
      element: <Frame />,
      children: [
        { index: true, element: <ServicesPage /> },
        { path: 'sources', element: <SourcesPage /> },
        { path: 'services/:service', element: <ServicePage /> },
        { path: 'accounts', element: <AccountsPage /> },
        { path: 'publishing', element: <PublishingPage /> },
        { path: 'audit', element: <AuditPage /> },
        { path: 'services/:service/access', element: <AccessPage /> },
        { path: 'services/:service/metadata', element: <MetadataPage /> },
        {
          path: 'services/:service/reference',
          // The viewer of the description is large, and is loaded by this page alone.
          lazy: async () => ({ Component: (await import('./features/reference/ReferencePage')).ReferencePage }),
        },
        { path: 'services/:service/sql', element: <SqlPage /> },
        { path: 'services/:service/:set', element: <DataPage /> },
        { path: '*', element: <NotFound what="page" /> },
      ],
    },
  ],
  { basename: '/console' },
);

// A link that opens nothing leads to the page for signing in, which says what to do.
await signInByLink().catch(() => undefined);

const root = document.getElementById('root');
if (root)
  createRoot(root).render(
    <StrictMode>
      <MantineProvider theme={theme} defaultColorScheme="auto">
        <QueryClientProvider client={queryClient}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </MantineProvider>
    </StrictMode>,
  );
