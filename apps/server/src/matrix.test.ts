import type { QuayEvent } from '@quay/contract';
import { ACCESS_LEVELS, actsOf, type AccessLevel, type Act } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from './_fixtures/acts.js';
import { EXAMPLES, makeThings, request, type Things } from './_fixtures/examples.js';
import { endGrants, grantOn } from './_fixtures/grants.js';
import { Client, openOffice, type TestOffice } from './_fixtures/office.js';
import { PAGES, routesOf } from './_fixtures/router.js';
import { StaffEars } from './live/staff-ears.service.js';
import { SessionService } from './people/session.service.js';
import { sessionSecret } from './people/signed-in.guard.js';
import type { Who } from './people/who.js';
import { declaredRoutes, type Allowed } from './platform/for.js';
import { hashPassword } from './platform/passwords.js';

// Every route of the running router, asked as everybody: who it is for is declared beside it (platform/for.ts).

// `lapsed` had everything until it was ended; `beside` has everything in another folder of the same store.
const NOTHING_HERE = ['none', 'lapsed', 'beside'] as const;
type Actor =
  'nobody' | 'visitor' | 'ended' | 'disabled' | (typeof NOTHING_HERE)[number] | AccessLevel | 'admin' | 'owner';
const ACTORS: Actor[] = ['nobody', 'visitor', 'ended', 'disabled', ...NOTHING_HERE, ...ACCESS_LEVELS, 'admin', 'owner'];

let office: TestOffice;
const by = {} as Record<Actor, Client>;
let common: Things;
let home: Things;
let root = '';

beforeAll(async () => {
  office = await openOffice();
  const [iris, rosa] = [await office.signedIn('iris'), await office.signedIn('rosa')];
  root = await commonStore();
  by.admin = iris;
  by.owner = rosa;
  by.nobody = office.client();
  by.lapsed = await person('lapsed', { level: 'manage' });
  await endGrants(office.db, root);
  for (const level of ACCESS_LEVELS) by[level] = await person(level, { level });
  by.none = await person('none', null);
  by.beside = await person('beside', { level: 'manage', on: await folder(iris, root, 'Beside') });
  by.ended = await person('ended', { level: 'manage' });
  const ending = by.ended.cookieHeader('/api/');
  await by.ended.ask('DELETE', '/api/session', undefined, {});
  by.ended = withCookie(ending);
  by.disabled = await person('disabled', { level: 'manage' });
  await office.db.query(`UPDATE person SET disabled_at = now() WHERE sign_in_name = 'disabled'`);
  [common, home] = [await makeThings(office, iris, root), await makeThings(office, rosa, office.roots.rosa)];
  by.visitor = office.client();
});
afterAll(() => office.close());

/** A client that sends a cookie, whatever it has been told since. */
function withCookie(cookie: string): Client {
  const client = office.client();
  client.cookieHeader = () => cookie;
  return client;
}

async function commonStore(): Promise<string> {
  const [store, top] = [randomUUID(), randomUUID()];
  await office.db.query(
    `INSERT INTO store (id, kind, name, created_at) VALUES ($1, 'common', 'Matrix', '2026-01-01')`,
    [store],
  );
  await office.db.query(
    `INSERT INTO node (id, store_id, kind, name, name_key, created_at, changed_at, others_rule) VALUES ($1, $2, 'folder', 'Matrix', 'matrix', '2026-01-01', '2026-01-01', 'read')`,
    [top, store],
  );
  return top;
}

async function person(name: string, granted: { level: AccessLevel; on?: string } | null): Promise<Client> {
  const id = randomUUID();
  await office.db.query(
    `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at) VALUES ($1, $2, $2 || '@saltmarsh.example', $2, 'X', 'staff', $3, '2026-01-01')`,
    [id, name, await hashPassword('weir-lantern-copper-tide')],
  );
  if (granted) await grantOn(office.db, granted.on ?? root, id, granted.level);
  const client = office.client();
  await client.ask('POST', '/api/session', { signInName: name, password: 'weir-lantern-copper-tide' });
  return client;
}

const staff = (actor: Actor): boolean => !['nobody', 'visitor', 'ended', 'disabled'].includes(actor);

/** Whether somebody may, on things of the common store or of a home. */
function may(actor: Actor, allowed: Allowed, where: 'common' | 'home'): boolean {
  switch (allowed) {
    case 'anyone':
    case 'link':
      return true;
    case 'visit':
      return actor === 'visitor';
    case 'signed-in':
      return staff(actor);
    case 'admin':
      return actor === 'admin';
    case 'admin-there':
      return actor === 'admin' && where === 'common';
    case 'mine':
      return actor === (where === 'home' ? 'owner' : 'admin');
    case 'publisher':
      return actor === (where === 'home' ? 'owner' : 'admin');
    case 'see-somewhere':
    case 'remove-somewhere':
      return (
        (actor === 'beside' && where === 'common') ||
        (actor === 'contribute' && where === 'common') ||
        can(actor, allowed.replace('-somewhere', '') as Act, where)
      );
    default:
      return can(actor, allowed, where);
  }
}

/** Whether somebody may do this where the example is, if only with what they brought. */
function can(actor: Actor, act: Act, where: 'common' | 'home'): boolean {
  if (where === 'home') return actor === 'owner';
  const level = ACCESS_LEVELS.find((l) => l === actor);
  return actor === 'admin' || (level !== undefined && actsOf(level, 'read').all.includes(act));
}

/** Acts that use up what they name, or somebody's session: what they need is made anew. */
const USES_UP =
  /^(POST \/api\/(trash.*|nodes\/move|folders\/:id\/restore)|PATCH \/api\/nodes.*|POST \/api\/uploads.*|DELETE \/api\/(session|shares).*)$/;

describe('every route', () => {
  it('says who it is for and has an example, or is a page that is the same for everybody', () => {
    const declared = declaredRoutes();
    const routes = routesOf(office).filter((route) => !PAGES.test(route));
    expect(routes.filter((route) => !declared.has(route) || !EXAMPLES[route])).toEqual([]);
    expect([...declared.keys()].filter((route) => !routes.includes(route))).toEqual([]);
  });

  it.each(Object.keys(EXAMPLES))('%s', async (route) => {
    const allowed = declaredRoutes().get(route)?.allowed as Allowed;
    const method = route.split(' ')[0] as string;
    for (const where of ['common', 'home'] as const)
      for (const actor of ACTORS) {
        if (actor === 'owner' && where === 'common') continue;
        const said = await outcome(route, method, actor, where);
        expect(said, `${actor} (${where})`).toEqual(expected(actor, allowed, where));
      }
  });

  /** `yes`, or how it is refused: without a session, or as what may not be done or is not there. */
  async function outcome(route: string, method: string, actor: Actor, where: 'common' | 'home'): Promise<string> {
    const things = where === 'common' ? common : home;
    if (actor === 'visitor') await visit(things);
    const client = clientOf(route, actor);
    const example = (EXAMPLES[route] as (t: Things) => { also?: number[]; endless?: boolean; path: string })(things);
    const response = await request(client, method, example);
    if (example.endless) await response.body?.cancel();
    else await response.arrayBuffer();
    const { status } = response;
    if (status < 400 && USES_UP.test(route)) {
      if (where === 'common') common = await makeThings(office, by.admin, root);
      else home = await makeThings(office, by.owner, office.roots.rosa);
    }
    if (status < 400 || example.also?.includes(status))
      return status === 403 || status === 404 ? 'yes or not there' : 'yes';
    return status === 401 ? 'sign in' : status === 403 || status === 404 ? 'no' : `status ${status}`;
  }

  /** Nobody keeps what another request gave them; who signs out is somebody else. */
  function clientOf(route: string, actor: Actor): Client {
    if (actor === 'visitor') return by.visitor;
    return withCookie(route === 'DELETE /api/session' ? '' : by[actor].cookieHeader('/api/'));
  }

  function expected(actor: Actor, allowed: Allowed, where: 'common' | 'home') {
    if (may(actor, allowed, where)) return expect.stringMatching(/^yes/) as string;
    if (allowed === 'visit') return 'sign in';
    return staff(actor) ? (expect.stringMatching(/^(no|yes or not there)$/) as string) : 'sign in';
  }

  /** A browser whose visit of the share lasts. */
  async function visit(things: Things): Promise<void> {
    by.visitor = office.client();
    await by.visitor.ask('POST', `/s/${things.share.token}/open`, { password: null });
    office.clock.advance(1100);
  }
});

describe('what is not there and what may not be seen', () => {
  it('are told alike', async () => {
    for (const route of [
      'GET /api/folders/:id',
      'GET /api/nodes/:id',
      'GET /api/files/:id/content',
      'GET /api/shares/:id',
    ]) {
      const method = route.split(' ')[0] as string;
      const example = (EXAMPLES[route] as (t: Things) => { path: string })(home);
      const there = (await (await request(by.none, method, example)).json()) as Record<string, unknown>;
      const nowhere = (await (
        await request(by.none, method, { path: example.path.replace(/[0-9a-f-]{36}/, randomUUID()) })
      ).json()) as Record<string, unknown>;
      expect({ ...there, requestId: '' }).toEqual({ ...nowhere, requestId: '' });
    }
  });
});

describe('every kind of event', () => {
  type Topic = QuayEvent['topic'];
  /** Who hears of things in the common store, and of things in a home. A topic without a row does not compile. */
  const HEARD: Record<Topic, { event: (t: Things) => QuayEvent; common: Actor[]; home: Actor[] }> = {
    node: { event: (t) => ({ topic: 'node', id: t.folder }), common: [...ACCESS_LEVELS, 'admin'], home: ['owner'] },
    preview: { event: (t) => ({ topic: 'preview', id: t.file }), common: [...ACCESS_LEVELS, 'admin'], home: ['owner'] },
    store: {
      event: (t) => ({ topic: 'store', id: t.storeId }),
      common: ['beside', ...ACCESS_LEVELS, 'admin'],
      home: ['owner'],
    },
    share: { event: (t) => ({ topic: 'share', id: t.share.id }), common: ['admin'], home: ['admin', 'owner'] },
    ledger: {
      event: (t) => ({ topic: 'ledger', id: 'share.visited', personId: null, shareId: t.share.id }),
      common: ['admin'],
      home: ['admin', 'owner'],
    },
    task: { event: (t) => ({ topic: 'task', id: t.task }), common: ['admin'], home: ['admin'] },
    reach: {
      event: (t) => ({ topic: 'reach', id: t.address }),
      common: ACTORS.filter(staff),
      home: ACTORS.filter(staff),
    },
    access: {
      event: () => ({ topic: 'access', id: 'any' }),
      common: ACTORS.filter(staff),
      home: ACTORS.filter(staff),
    },
    session: {
      event: () => ({ topic: 'session', id: 'address' }),
      common: ACTORS.filter(staff),
      home: ACTORS.filter(staff),
    },
  };
  it.each(Object.keys(HEARD) as Topic[])('%s', async (topic) => {
    const ears = office.app.get(StaffEars);
    for (const where of ['common', 'home'] as const)
      for (const actor of ACTORS.filter(staff)) {
        const secret = sessionSecret(by[actor].cookieHeader('/api/')) ?? '';
        const who = (await office.app.get(SessionService).whoHolds(secret)) as Who;
        const heard = await ears.mayHear(who, HEARD[topic].event(where === 'common' ? common : home));
        expect(heard, `${actor} (${where})`).toBe(HEARD[topic][where].includes(actor));
      }
  });
});
