import { Injectable, type CanActivate, type ExecutionContext } from '@nestjs/common';
import { cookieOf } from '../platform/cookies.js';
import { Problem } from '../platform/problems/problem.js';
import { SessionService } from './session.service.js';
import type { SignedInRequest } from './who.js';

export const SESSION_COOKIE = 'quay_session';

export function sessionSecret(cookieHeader: string | undefined): string | null {
  return cookieOf(cookieHeader, SESSION_COOKIE);
}

/** Lets only signed-in people through, and says who they are. */
@Injectable()
export class SignedInGuard implements CanActivate {
  constructor(private readonly sessions: SessionService) {}

  async canActivate(context: ExecutionContext): Promise<boolean> {
    const req = context.switchToHttp().getRequest<SignedInRequest>();
    const secret = sessionSecret(req.headers.cookie);
    const who = secret ? await this.sessions.whoHolds(secret) : null;
    if (!who) throw new Problem('unauthenticated', 'session.none', 'You are not signed in, or your session has ended.');
    req.who = who;
    return true;
  }
}
