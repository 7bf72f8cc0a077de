import { useQueryClient } from '@tanstack/react-query';
import { Suspense, useState } from 'react';
import { Dropdown, Modal } from 'react-bootstrap';
import { ErrorBoundary, type FallbackProps } from 'react-error-boundary';
import { Link, NavLink, Outlet, useLocation } from 'react-router';
import { Slip } from '../slip';
import { useSlip } from '../slip/store';
import { useSignOut } from './sign-out';
import { CommandBox } from './command-box';
import { KEY_HELP, useKeys } from './keys';
import { useLiveUpdates } from './live';
import { placesOf } from './places';
import { NoticeList, undoWhenAnswered } from './notices';
import { useMe } from './session';
import { Failure, SkeletonRows } from './states';
import { When } from './words';
import { TransfersButton } from './transfers/panel';
import './frame.scss';

/** The bar above, the place below, the slip at the right edge. */
export function Frame() {
  useLiveUpdates();
  const me = useMe();
  const [commands, setCommands] = useState(false);
  const [help, setHelp] = useState(false);
  const queries = useQueryClient();
  const slip = useSlip();
  const { pathname } = useLocation();
  useKeys({
    'ctrl+k': () => setCommands(true),
    'ctrl+z': () => void undoWhenAnswered(queries),
    '?': () => setHelp(true),
  });
  const slipShown = slip.begun && !slip.folded;
  return (
    <div className="frame">
      <a className="visually-hidden-focusable" href="#place">
        Skip to the content
      </a>
      <header className="bar">
        <Link to="/today" className="brand" aria-label={`Lockfast Quay, ${me.office.name}`}>
          <img src="/mark.svg" alt="" />
          <span className="brand-name">Lockfast Quay</span> <small>{me.office.name}</small>
        </Link>
        <nav aria-label="Places">
          {placesOf(me).map(({ path, name }) => (
            <NavLink key={path} to={path}>
              {name}
            </NavLink>
          ))}
        </nav>
        <button type="button" className="find" onClick={() => setCommands(true)}>
          Find or do <kbd>Ctrl K</kbd>
        </button>
        <TransfersButton />
        <PersonMenu showKeys={() => setHelp(true)} />
      </header>
      <div className="below">
        <main id="place" className={slipShown ? 'place with-slip' : 'place'} tabIndex={-1}>
          {me.factorDueAt && (
            <p className="factor-due" role="note">
              From <When at={me.factorDueAt} brief /> on you come no further without a second factor.{' '}
              <Link to="/account">Set one up</Link>
            </p>
          )}
          <ErrorBoundary FallbackComponent={Broken} resetKeys={[pathname]}>
            <Suspense fallback={<Loading />}>
              <Outlet />
            </Suspense>
          </ErrorBoundary>
        </main>
        <ErrorBoundary FallbackComponent={Broken} resetKeys={[slip.items]}>
          <Slip />
        </ErrorBoundary>
      </div>
      <NoticeList />
      <CommandBox show={commands} close={() => setCommands(false)} />
      <Modal show={help} onHide={() => setHelp(false)} aria-labelledby="keys-title">
        <Modal.Header closeButton>
          <Modal.Title as="h2" className="h5" id="keys-title">
            Keys
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <dl className="row mb-0">
            {KEY_HELP.map(([keys, words]) => (
              <div key={keys} className="d-flex gap-3 py-1">
                <dt className="text-nowrap col-3">
                  <kbd>{keys}</kbd>
                </dt>
                <dd className="mb-0">{words}</dd>
              </div>
            ))}
          </dl>
        </Modal.Body>
      </Modal>
    </div>
  );
}

/** While a place is loaded for the first time. */
function Loading() {
  return (
    <>
      <h1 className="visually-hidden">Loading ...</h1>
      <SkeletonRows />
    </>
  );
}

/** A fault of ours takes down no more than the part that has it. */
function Broken({ resetErrorBoundary }: FallbackProps) {
  return (
    <Failure
      error={new Error('This part could not be shown: a fault of the program. Nothing that was kept is lost.')}
      again={resetErrorBoundary}
    />
  );
}

function PersonMenu({ showKeys }: { showKeys: () => void }) {
  const me = useMe();
  const signOut = useSignOut();
  return (
    <Dropdown align="end">
      <Dropdown.Toggle
        className="avatar"
        variant="plain"
        aria-label={`${me.initials}: account of ${me.name}, sign out`}
      >
        {me.initials}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Header>{me.name}</Dropdown.Header>
        <Dropdown.Item as={Link} to="/account">
          Password and appearance
        </Dropdown.Item>
        {me.duties.includes('run-server') && (
          <Dropdown.Item as={Link} to="/settings">
            Settings
          </Dropdown.Item>
        )}
        <Dropdown.Item onClick={showKeys}>Keys</Dropdown.Item>
        <Dropdown.Divider />
        <Dropdown.Item onClick={() => void signOut()}>Sign out</Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  );
}
