import { QueryClient, QueryClientProvider, useQuery } from '@tanstack/react-query';
import { StrictMode, useEffect, type ReactNode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Navigate, Route, Routes, useLocation } from 'react-router';
import { Account } from './places/account';
import { Ledger } from './places/ledger';
import { Reach } from './places/reach';
import { ReachPlan } from './places/reach/plan';
import { Shares } from './places/shares';
import { SignIn } from './places/sign-in';
import { Stores } from './places/stores';
import { Find } from './places/stores/find';
import { Folder } from './places/stores/folder';
import { Past } from './places/stores/past';
import { Storage } from './places/stores/storage';
import { Trash } from './places/stores/trash';
import { Today } from './places/today';
import { Work } from './places/work';
import './styles/theme.scss';
import './styles/places.scss';
import './styles/stores.scss';
import './styles/reach.scss';
import './styles/narrow.scss';
import { ApiProblem } from './ui/api';
import { Frame } from './ui/frame';
import { followScheme } from './ui/scheme';
import { MeContext, meQuery, tuneClock } from './ui/session';
import { forgetPerson } from './ui/session-end';
import { Failure, SkeletonRows } from './ui/states';

followScheme();

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 20_000,
      retry: (count, error) => count < 2 && !(error instanceof ApiProblem && error.status >= 400 && error.status < 500),
    },
  },
});
// A session that has ended shows the sign-in, wherever that is noticed.
client.getQueryCache().subscribe((event) => {
  const error = event.query.state.error;
  if (event.type === 'updated' && error instanceof ApiProblem && error.code === 'session.none') forgetPerson(client);
});

function SignedIn({ children }: { children: ReactNode }) {
  const { data: me, error, isPending, refetch } = useQuery(meQuery);
  const location = useLocation();
  useEffect(() => {
    if (me) tuneClock(me.now);
  }, [me]);
  if (isPending) return <SkeletonRows />;
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!me) return <Navigate to="/sign-in" state={{ from: location.pathname + location.search }} replace />;
  return <MeContext value={me}>{children}</MeContext>;
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route path="/sign-in" element={<SignIn />} />
          <Route
            element={
              <SignedIn>
                <Frame />
              </SignedIn>
            }
          >
            <Route path="/today" element={<Today />} />
            <Route path="/stores" element={<Stores />} />
            <Route path="/stores/find" element={<Find />} />
            <Route path="/stores/:folderId" element={<Folder />} />
            <Route path="/stores/:folderId/past" element={<Past />} />
            <Route path="/stores/:storeId/storage" element={<Storage />} />
            <Route path="/stores/:storeId/trash" element={<Trash />} />
            <Route path="/shares" element={<Shares />} />
            <Route path="/shares/:shareId" element={<Shares />} />
            <Route path="/reach" element={<Reach />} />
            <Route path="/reach/plan" element={<ReachPlan />} />
            <Route path="/reach/addresses/:addressId" element={<Reach />} />
            <Route path="/ledger" element={<Ledger />} />
            <Route path="/account" element={<Account />} />
            <Route path="/work" element={<Work />} />
            <Route path="*" element={<Navigate to="/today" replace />} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
