import { DUTIES, type Duty } from '@quay/core';
import { Injectable, type CanActivate, type ExecutionContext } from '@nestjs/common';
import { clientAddress } from '../platform/client-address.js';
import { cookieOf } from '../platform/cookies.js';
import { Problem } from '../platform/problems/problem.js';
import { allowedBy, type Allowed } from '../platform/for.js';
import { requireDuty, requireStaff } from './duties.js';
import { SessionService } from './session.service.js';
import type { Held, SignedInRequest, Who } from './who.js';

export const SESSION_COOKIE = 'quay_session';

export function sessionSecret(cookieHeader: string | undefined): string | null {
  return cookieOf(cookieHeader, SESSION_COOKIE);
}

/** Lets only signed-in people through who have the duty that the route is for, and says who they are. */
@Injectable()
export class SignedInGuard implements CanActivate {
  constructor(private readonly sessions: SessionService) {}

  async canActivate(context: ExecutionContext): Promise<boolean> {
    const req = context.switchToHttp().getRequest<SignedInRequest>();
    const secret = sessionSecret(req.headers.cookie);
    const held = secret ? await this.sessions.whoKnocks(secret, clientAddress(req)) : null;
    if (!held) throw noSession();
    const allowed = allowedBy(context.getHandler());
    requireUnhindered(held, allowed);
    requireAllowed(held.who, allowed);
    req.who = held.who;
    return true;
  }
}

export const noSession = (): Problem =>
  new Problem('unauthenticated', 'session.none', 'You are not signed in, or your session has ended.');

/** @throws Problem session.outside, password.given, factor.wanted */
function requireUnhindered({ hindrance }: Held, allowed: Allowed | undefined): void {
  if (hindrance === 'outside')
    throw new Problem('unauthenticated', 'session.outside', 'From outside the office, you may not be signed in.');
  if (hindrance === null || allowed === 'hindered') return;
  if (hindrance === 'password')
    throw new Problem('forbidden', 'password.given', 'Your password was made by somebody else. Choose your own first.');
  if (hindrance === 'factor')
    throw new Problem('forbidden', 'factor.wanted', 'The office wants a second factor of you. Set one up first.');
}

/** @throws Problem duty.missing, staff.only */
function requireAllowed(who: Who, allowed: Allowed | undefined): void {
  if (allowed === 'staff') requireStaff(who);
  if (allowed === 'publish') requireDuty(who, 'publish-outside');
  if (allowed === 'ask-for-files') requireDuty(who, 'ask-outside');
  const duty = allowed === 'run-server-there' ? 'run-server' : DUTIES.find((d) => d === allowed);
  if (duty) requireDuty(who, duty satisfies Duty);
}
