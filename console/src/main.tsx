import '@fontsource-variable/inter/index.css';
import '@mantine/core/styles.css';
import './style.css';
import { createTheme, MantineProvider } from '@mantine/core';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { type ComponentType, StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, RouterProvider } from 'react-router';
import { RequestError, signInByLink } from './api/client';
import { Frame } from './components/Frame';
import { HomePage } from './features/home/HomePage';
import { NotFound } from './components/States';

const theme = createTheme({
  primaryColor: 'cyan',
  primaryShade: 9,
  autoContrast: true,
  defaultRadius: 'sm',
  fontFamily: '"Inter Variable", system-ui, sans-serif',
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

/** A page that is loaded when somebody goes to it. */
const page = (load: () => Promise<Record<string, ComponentType>>, name: string) => ({
  lazy: async () => ({ Component: (await load())[name] }),
});

const router = createBrowserRouter(
  [
    {
      element: <Frame />,
      HydrateFallback: () => null,
      children: [
        { index: true, element: <HomePage /> },
        { path: 'services', ...page(() => import('./features/services/ServicesPage'), 'ServicesPage') },
        { path: 'sources', ...page(() => import('./features/sources/SourcesPage'), 'SourcesPage') },
        { path: 'sources/new', ...page(() => import('./features/sources/NewSourcePage'), 'NewSourcePage') },
        { path: 'files', ...page(() => import('./features/draft/FilesPage'), 'FilesPage') },
        { path: 'design/:service', ...page(() => import('./features/design/DesignPage'), 'DesignPage') },
        { path: 'services/:service', ...page(() => import('./features/services/ServicePage'), 'ServicePage') },
        { path: 'accounts', ...page(() => import('./features/access/AccountsPage'), 'AccountsPage') },
        { path: 'publishing', ...page(() => import('./features/publishing/PublishingPage'), 'PublishingPage') },
        { path: 'compose', ...page(() => import('./features/compose/ComposePage'), 'ComposePage') },
        { path: 'requests', ...page(() => import('./features/requests/RequestsPage'), 'RequestsPage') },
        { path: 'verify', ...page(() => import('./features/verify/VerifyPage'), 'VerifyPage') },
        { path: 'audit', ...page(() => import('./features/access/AuditPage'), 'AuditPage') },
        { path: 'services/:service/access', ...page(() => import('./features/access/AccessPage'), 'AccessPage') },
        {
          path: 'services/:service/metadata',
          ...page(() => import('./features/metadata/MetadataPage'), 'MetadataPage'),
        },
        {
          path: 'services/:service/reference',
          ...page(() => import('./features/reference/ReferencePage'), 'ReferencePage'),
        },
        { path: 'services/:service/sql', ...page(() => import('./features/data/SqlPage'), 'SqlPage') },
        { path: 'services/:service/:set', ...page(() => import('./features/data/DataPage'), 'DataPage') },
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
