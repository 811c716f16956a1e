import './index.css';

import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, Link, RouterProvider } from 'react-router';

import { ServiceError } from './api/client';
import { Frame } from './components/Frame';
import { setNonce } from './lib/nonce';
import { BoutPage } from './pages/bout/BoutPage';
import { ComparePage } from './pages/compare/ComparePage';
import { ContestPage } from './pages/contest/ContestPage';
import { ContestsPage } from './pages/contests/ContestsPage';
import { ContendersPage } from './pages/contender/ContendersPage';
import { HandPage } from './pages/hand/HandPage';
import { HandsPage } from './pages/hand/HandsPage';
import { TaskPage } from './pages/task/TaskPage';
import { TasksPage } from './pages/task/TasksPage';
import { SignInPage } from './pages/signin/SignInPage';

setNonce();

const queries = new QueryClient({
  defaultOptions: {
    // Saying no again would be no different; a service that is away may come back.
    queries: { retry: (n, error) => n < 2 && !(error instanceof ServiceError && error.status >= 400 && error.status < 500) },
  },
});

function Nowhere() {
  return (
    <p className="py-8">
      There is no such page. <Link to="/">To the contests</Link>
    </p>
  );
}

const router = createBrowserRouter([
  {
    element: <Frame />,
    children: [
      { path: '/', element: <ContestsPage /> },
      { path: '/sign-in', element: <SignInPage /> },
      { path: '/contests/:id', element: <ContestPage /> },
      { path: '/bouts/:id', element: <BoutPage /> },
      { path: '/compare', element: <ComparePage /> },
      { path: '/contenders', element: <ContendersPage /> },
      { path: '/hand', element: <HandsPage /> },
      { path: '/hand/:id', element: <HandPage /> },
      { path: '/tasks', element: <TasksPage /> },
      { path: '/tasks/:slug', element: <TaskPage /> },
      { path: '*', element: <Nowhere /> },
    ],
  },
]);

const root = document.getElementById('root');
if (!root) throw new Error('the page has no root');
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
