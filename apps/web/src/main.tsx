import { QueryClient, QueryClientProvider, useQuery } from '@tanstack/react-query';
import { lazy, StrictMode, Suspense, useEffect, useState, type ReactNode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Navigate, Route, Routes, useLocation } from 'react-router';
import './styles/theme.scss';
import './styles/common.scss';
import { ApiProblem } from './ui/api';
import { Frame } from './ui/frame';
import { followScheme } from './ui/scheme';
import { MeContext, meQuery, tuneClock, useMe } from './ui/session';
import { forgetWhoLeaves } from './ui/session-end';
import { Failure, SkeletonRows } from './ui/states';

// Each place is loaded when somebody first goes there.
const Begin = lazy(() => import('./places/begin').then((m) => ({ default: m.Begin })));
const Account = lazy(() => import('./places/account').then((m) => ({ default: m.Account })));
const Intakes = lazy(() => import('./places/intakes').then((m) => ({ default: m.Intakes })));
const Ledger = lazy(() => import('./places/ledger').then((m) => ({ default: m.Ledger })));
const PeoplePlace = lazy(() => import('./places/people').then((m) => ({ default: m.PeoplePlace })));
const Reach = lazy(() => import('./places/reach').then((m) => ({ default: m.Reach })));
const ReachPlan = lazy(() => import('./places/reach/plan').then((m) => ({ default: m.ReachPlan })));
const Shares = lazy(() => import('./places/shares').then((m) => ({ default: m.Shares })));
const SignIn = lazy(() => import('./places/sign-in').then((m) => ({ default: m.SignIn })));
const SetOwnPassword = lazy(() => import('./places/password').then((m) => ({ default: m.SetOwnPassword })));
const Settings = lazy(() => import('./places/settings').then((m) => ({ default: m.Settings })));
const Stores = lazy(() => import('./places/stores').then((m) => ({ default: m.Stores })));
const FactorFirst = lazy(() => import('./ui/second-factor/factor-first').then((m) => ({ default: m.FactorFirst })));
const OwnPasswordFirst = lazy(() => import('./ui/own-password-first').then((m) => ({ default: m.OwnPasswordFirst })));
const Find = lazy(() => import('./places/stores/find').then((m) => ({ default: m.Find })));
const Folder = lazy(() => import('./places/stores/folder').then((m) => ({ default: m.Folder })));
const Past = lazy(() => import('./places/stores/past').then((m) => ({ default: m.Past })));
const Storage = lazy(() => import('./places/stores/storage').then((m) => ({ default: m.Storage })));
const Trash = lazy(() => import('./places/stores/trash').then((m) => ({ default: m.Trash })));
const Today = lazy(() => import('./places/today').then((m) => ({ default: m.Today })));
const Work = lazy(() => import('./places/work').then((m) => ({ default: m.Work })));

// A page that is older than the server finds no place that it has not loaded yet: it begins anew, once.
window.addEventListener('vite:preloadError', (event) => {
  const last = Number(sessionStorage.getItem('quay-begun-anew') ?? 0);
  if (Date.now() - last < 60_000) return;
  event.preventDefault();
  sessionStorage.setItem('quay-begun-anew', String(Date.now()));
  location.reload();
});

followScheme();

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 20_000,
      retry: (count, error) => count < 2 && !(error instanceof ApiProblem && error.status >= 400 && error.status < 500),
    },
  },
});
forgetWhoLeaves(client);

function SignedIn({ children }: { children: ReactNode }) {
  const { data: me, error, isPending, refetch } = useQuery(meQuery);
  const location = useLocation();
  // While recovery codes are shown the page stays, though nothing is wanted any more.
  const [held, setHeld] = useState(false);
  useEffect(() => {
    if (me) tuneClock(me.now);
  }, [me]);
  if (isPending) return <SkeletonRows />;
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!me) return <Navigate to="/sign-in" state={{ from: location.pathname + location.search }} replace />;
  if (me.givenPassword || me.lacksFactor || held)
    return (
      <Suspense fallback={<SkeletonRows />}>
        {me.givenPassword ? <OwnPasswordFirst me={me} /> : <FactorFirst me={me} hold={setHeld} />}
      </Suspense>
    );
  return <MeContext value={me}>{children}</MeContext>;
}

/** Guests begin with what they were let into. */
const StartPage = () => <Navigate to={useMe().role === 'guest' ? '/stores' : '/today'} replace />;

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route
            path="/begin"
            element={
              <Suspense>
                <Begin />
              </Suspense>
            }
          />
          <Route
            path="/password/:token"
            element={
              <Suspense>
                <SetOwnPassword />
              </Suspense>
            }
          />
          <Route
            path="/sign-in"
            element={
              <Suspense>
                <SignIn />
              </Suspense>
            }
          />
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
            <Route path="/intakes" element={<Intakes />} />
            <Route path="/intakes/:intakeId" element={<Intakes />} />
            <Route path="/reach" element={<Reach />} />
            <Route path="/reach/plan" element={<ReachPlan />} />
            <Route path="/reach/addresses/:addressId" element={<Reach />} />
            <Route path="/people" element={<PeoplePlace />} />
            <Route path="/people/:view" element={<PeoplePlace />} />
            <Route path="/people/:view/:id" element={<PeoplePlace />} />
            <Route path="/people/:view/:id/shares/:shareId" element={<PeoplePlace />} />
            <Route path="/people/:view/:id/:folderId" element={<PeoplePlace />} />
            <Route path="/ledger" element={<Ledger />} />
            <Route path="/account" element={<Account />} />
            <Route path="/settings" element={<Navigate to="/settings/office" replace />} />
            <Route path="/settings/:subject" element={<Settings />} />
            <Route path="/work" element={<Work />} />
            <Route path="*" element={<StartPage />} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
