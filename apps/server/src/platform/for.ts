import { RequestMethod, SetMetadata } from '@nestjs/common';
import type { Act } from '@quay/core';

/**
 * Who an endpoint is for. The services decide; this says beside each route what they must come to, and a test asks every
 * route as everybody and compares.
 * - `anyone`: no sign-in at all; `link`: whoever holds the link of a share; `visit`: a browser whose visit lasts
 * - `signed-in`: all staff; `admin`: the admin alone; `admin-there`: the admin, and not on homes; `mine`: whoever it belongs to
 * - `publisher`: whoever made the share, and the admin unless it is from somebody's home
 * - an act: whoever may do that with what the request names
 * - an act `-somewhere`: whoever may do it anywhere in the store that the request names, if only with what they brought
 */
export type Allowed =
  | 'anyone'
  | 'link'
  | 'visit'
  | 'signed-in'
  | 'admin'
  | 'admin-there'
  | 'mine'
  | 'publisher'
  | Act
  | `${'see' | 'remove'}-somewhere`;

const ALLOWED = 'quay:allowed';
const declared: { owner: object; handler: string | symbol }[] = [];

/** Says who an endpoint is for. */
export function For(allowed: Allowed): MethodDecorator {
  return (owner, handler, descriptor) => {
    declared.push({ owner: owner.constructor, handler });
    SetMetadata(ALLOWED, allowed)(owner, handler, descriptor);
  };
}

/** Every endpoint that says who it is for, by method and path as the router knows it: "GET /api/folders/:id". */
export function declaredRoutes(): Map<string, { allowed: Allowed; handler: (...args: never[]) => unknown }> {
  const routes = new Map<string, { allowed: Allowed; handler: (...args: never[]) => unknown }>();
  for (const { owner, handler } of declared) {
    const method = (owner as { prototype: Record<string | symbol, (...args: never[]) => unknown> }).prototype[handler];
    if (!method) continue;
    const path = [Reflect.getMetadata('path', owner), Reflect.getMetadata('path', method)]
      .map((part: string) => part.replace(/^\/|\/$/g, ''))
      .filter((part) => part !== '')
      .join('/');
    const verb = RequestMethod[Reflect.getMetadata('method', method) as RequestMethod];
    routes.set(`${verb} /${path}`, { allowed: Reflect.getMetadata(ALLOWED, method) as Allowed, handler: method });
  }
  return routes;
}
