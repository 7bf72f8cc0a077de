import { DUTIES, type Duty } from '@quay/core';
import { Injectable, type CanActivate, type ExecutionContext } from '@nestjs/common';
import { cookieOf } from '../platform/cookies.js';
import { Problem } from '../platform/problems/problem.js';
import { allowedBy, type Allowed } from '../platform/for.js';
import { requireDuty, requireStaff } from './duties.js';
import { SessionService } from './session.service.js';
import type { SignedInRequest, Who } from './who.js';

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
    const who = secret ? await this.sessions.whoHolds(secret) : null;
    if (!who) throw new Problem('unauthenticated', 'session.none', 'You are not signed in, or your session has ended.');
    requireAllowed(who, allowedBy(context.getHandler()));
    req.who = who;
    return true;
  }
}

/** @throws Problem duty.missing, staff.only */
function requireAllowed(who: Who, allowed: Allowed | undefined): void {
  if (allowed === 'staff') requireStaff(who);
  if (allowed === 'publish') requireDuty(who, 'publish-outside');
  const duty = allowed === 'run-server-there' ? 'run-server' : DUTIES.find((d) => d === allowed);
  if (duty) requireDuty(who, duty satisfies Duty);
}
