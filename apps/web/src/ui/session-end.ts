import type { Me } from '@quay/contract';
import type { QueryClient } from '@tanstack/react-query';
import { useSlip } from '../slip/store';
import { ApiProblem } from './api';
import { useFresh } from './hand-over/fresh';
import { forgetIntakes } from './intake-draft';
import { useNotices } from './notices';
import { meQuery } from './session';
import { dropTransfers } from './transfers/store';

/** Whose things this browser keeps, also after a reload. */
const WHOSE = 'quay-whose';
/** Whose this tab has, which another tab cannot forget. */
let here = localStorage.getItem(WHOSE);

/**
 * Whoever sits here next finds nothing of the person before: no answers, no slip, no transfers, no way back. It is the
 * same however they left: signed out here or in another tab, or their session ended, also while the page was closed.
 */
export function forgetWhoLeaves(client: QueryClient): void {
  client.getQueryCache().subscribe((event) => {
    if (event.type !== 'updated') return;
    const { error, data } = event.query.state;
    // Many answers say so at once: the first is enough, and whoever signs in next is not to be forgotten by the last.
    if (error instanceof ApiProblem && error.code === 'session.none' && client.getQueryData(meQuery.queryKey))
      client.setQueryData(meQuery.queryKey, null);
    if (event.query.queryKey[0] === 'me' && data !== undefined) isHere(client, data as Me | null);
  });
}

function isHere(client: QueryClient, me: Me | null): void {
  const now = me?.id ?? null;
  if (here === now) return;
  if (here !== null) forgetPerson(client);
  here = now;
  if (now === null) localStorage.removeItem(WHOSE);
  else localStorage.setItem(WHOSE, now);
}

function forgetPerson(client: QueryClient): void {
  useSlip.getState().clear();
  useFresh.setState({ passwords: {} });
  forgetIntakes();
  useNotices.getState().clear();
  void dropTransfers();
  client.removeQueries({ predicate: (query) => query.queryKey[0] !== 'me' });
}
