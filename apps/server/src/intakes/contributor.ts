import { DEPOSIT_HEADER } from '@quay/contract';
import type { Request } from 'express';
import { sessionSecret } from '../people/signed-in.guard.js';
import { clientAddress } from '../platform/client-address.js';
import { cookieOf } from '../platform/cookies.js';
import type { Contributor } from './door.service.js';

export const DEPOSIT_COOKIE = 'quay_deposit';

/** Whoever comes by the link of an intake, with what they bring. */
export const contributorOf = (token: string, req: Request): Contributor => ({
  token,
  cookie: req.get(DEPOSIT_HEADER) ?? cookieOf(req.headers.cookie, DEPOSIT_COOKIE),
  session: sessionSecret(req.headers.cookie),
  fromAddress: clientAddress(req),
});
