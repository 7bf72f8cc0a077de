import { RequestMethod, SetMetadata } from '@nestjs/common';
import type { Act, Duty } from '@quay/core';

/**
 * Who an endpoint is for. `first-start`: while there is no office, the browser in which its code was typed. Duties, and whether guests may, are decided by it (SignedInGuard); of everything else the
 * services decide, and this says beside each route what they must come to. A test asks every route as everybody and
 * compares. - `anyone`: no sign-in at all; `link`: whoever holds the link of a share; `visit`: a browser whose visit
 * lasts - `hindered`: everybody with an account, also while a second factor or a password of their own is wanted of
 * them - `signed-in`: everybody with an account; `staff`: without guests; `mine`: whoever it belongs to
 * - `group-manager`: whoever looks after people, or manages the group that the request names
 * - a duty: whoever has it; `run-server-there`: who also runs the store that the request names
 * - `publisher`: whoever made the share, and the admin unless it is from somebody's home
 * - an act: whoever may do that with what the request names; to `publish` takes the duty to publish outside, too
 * - `ask-for-files`: whoever may publish in the folder that the request names, and ask people outside for files
 * - an act `-somewhere`: whoever may do it anywhere in the store that the request names, if only with what they brought
 * - `see-access`, `manage-access`: whoever sees the folder, or may say who reaches it, past a closed folder the admin
 * too
 */
export type Allowed =
  | 'anyone'
  | 'link'
  | 'visit'
  | 'first-start'
  | 'hindered'
  | 'signed-in'
  | 'staff'
  | 'mine'
  | 'publisher'
  | 'ask-for-files'
  | 'group-manager'
  | Duty
  | 'run-server-there'
  | Act
  | `${'see' | 'remove'}-somewhere`
  | `${'see' | 'manage'}-access`;

const ALLOWED = 'quay:allowed';
const declared: { owner: object; handler: string | symbol }[] = [];

/** Says who an endpoint is for. */
export function For(allowed: Allowed): MethodDecorator {
  return (owner, handler, descriptor) => {
    declared.push({ owner: owner.constructor, handler });
    SetMetadata(ALLOWED, allowed)(owner, handler, descriptor);
  };
}

/** What a handler says. */
export const allowedBy = (handler: object): Allowed | undefined =>
  Reflect.getMetadata(ALLOWED, handler) as Allowed | undefined;

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
    routes.set(`${verb} /${path}`, { allowed: allowedBy(method) as Allowed, handler: method });
  }
  return routes;
}
