import type { SignedOut } from '@quay/contract';
import { useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { api } from './api';
import { meQuery } from './session';

/** Ends the session here, and at the identity provider where it was begun. */
export function useSignOut(): () => Promise<void> {
  const client = useQueryClient();
  const navigate = useNavigate();
  return async () => {
    const out = await api<SignedOut>('DELETE', '/api/session').catch(() => null);
    client.setQueryData(meQuery.queryKey, null);
    if (out?.byProvider) window.location.assign('/api/sign-in/provider/out');
    else void navigate('/sign-in');
  };
}
