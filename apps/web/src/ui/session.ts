import type { Me } from '@quay/contract';
import { queryOptions } from '@tanstack/react-query';
import { createContext, useContext, useEffect, useState } from 'react';
import { api, ApiProblem } from './api';

export const meQuery = queryOptions({
  queryKey: ['me'],
  queryFn: () =>
    api<Me>('GET', '/api/session').catch((error: unknown) => {
      if (error instanceof ApiProblem && error.status === 401) return null;
      throw error;
    }),
  staleTime: 5 * 60_000,
});

/** The signed-in person. Only for places behind the sign-in. */
export function useMe(): Me {
  const me = useContext(MeContext);
  if (!me) throw new Error('asked who is signed in outside the signed-in part');
  return me;
}

/** Given by the signed-in part, so that what is inside it never sees a session end half-way. */
export const MeContext = createContext<Me | null>(null);

export function useZone(): string {
  return useMe().office.zone;
}

let serverAheadMs = 0;

/** Takes over the server's time, so that "now" is the same on both sides. */
export function tuneClock(serverNow: string): void {
  serverAheadMs = Date.parse(serverNow) - Date.now();
}

export function now(): number {
  return Date.now() + serverAheadMs;
}

/** The server's time, moving on by itself. */
export function useNow(everyMs = 15_000): number {
  const [value, setValue] = useState(now);
  useEffect(() => {
    const timer = setInterval(() => setValue(now()), everyMs);
    return () => clearInterval(timer);
  }, [everyMs]);
  return value;
}
