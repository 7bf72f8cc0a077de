import { createParamDecorator, type ExecutionContext } from '@nestjs/common';
import type { Duty, Role } from '@quay/core';
import type { Request } from 'express';

/** The signed-in person, as every service is told. */
export interface Who {
  personId: string;
  name: string;
  role: Role;
  /** What they may do beside files. */
  duties: readonly Duty[];
}

/**
 * Why somebody who is signed in comes no further: they are outside, where they may not be; they came in by a password
 * that somebody else made; or the office wants a second factor of them that they do not have.
 */
export type Hindrance = 'outside' | 'password' | 'factor';

/** Who holds a session, and what stands in their way. */
export interface Held {
  who: Who;
  hindrance: Hindrance | null;
}

export type SignedInRequest = Request & { who?: Who };

/** The signed-in person of a request that {@link SignedInGuard} has let through. */
export const Me = createParamDecorator((_: unknown, context: ExecutionContext): Who => {
  const { who } = context.switchToHttp().getRequest<SignedInRequest>();
  if (!who) throw new Error('a handler asks who is signed in but has no guard');
  return who;
});
