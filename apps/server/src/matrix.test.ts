import type { QuayEvent } from '@quay/contract';
import { ACCESS_LEVELS, actsOf, DUTIES, READY_DUTIES, type AccessLevel, type Act, type Duty } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from './_fixtures/acts.js';
import { EXAMPLES, makeThings, request, type Things } from './_fixtures/examples.js';
import { endGrants, grantOn, setInherits, setOthersRule } from './_fixtures/grants.js';
import { Client, openOffice, type TestOffice } from './_fixtures/office.js';
import { isPage, routesOf } from './_fixtures/router.js';
import { StaffEars } from './live/staff-ears.service.js';
import { SessionService } from './people/session.service.js';
import { sessionSecret } from './people/signed-in.guard.js';
import type { Who } from './people/who.js';
import { declaredRoutes, type Allowed } from './platform/for.js';
import { hashPassword } from './platform/passwords.js';

// Every route of the running router, asked as everybody: who it is for is declared beside it (platform/for.ts).

// `lapsed` had everything until it was ended; `beside` has everything in another folder of the same store; `above` has
// everything in the store, and the folder in depth takes nothing over from there; `keeper` looks after the ways in.
const NOTHING_HERE = ['none', 'lapsed', 'beside', 'keeper'] as const;
const STRANGERS = ['nobody', 'visitor', 'ended', 'disabled'] as const;
type Actor =
  (typeof STRANGERS)[number] | (typeof NOTHING_HERE)[number] | AccessLevel | 'above' | 'guest' | 'admin' | 'owner';
/** Where the things are that a request names: in a store, in somebody's home, in a folder in depth. */
type Where = 'common' | 'home' | 'depth';
const EVERYWHERE: Actor[] = [...STRANGERS, ...NOTHING_HERE, ...ACCESS_LEVELS, 'guest', 'admin'];
const ACTORS: Record<Where, Actor[]> = {
  common: EVERYWHERE,
  home: [...EVERYWHERE, 'owner'],
  depth: ['none', 'above', ...ACCESS_LEVELS, 'guest', 'admin'],
};
const STAFF_HERE = [...ACCESS_LEVELS, 'guest', 'admin'] as const;

let office: TestOffice;
const by = {} as Record<Actor, Client>;
const things = {} as Record<Where, Things>;
const tops = {} as Record<Where, string>;
/** Who makes what is named: whoever may do everything there. */
const MAKER = { common: 'admin', home: 'owner', depth: 'manage' } as const;

beforeAll(async () => {
  office = await openOffice();
  const [iris, rosa] = [await office.signedIn('iris'), await office.signedIn('rosa')];
  const [common, depths] = [await commonStore('Matrix'), await commonStore('Depths')];
  by.admin = iris;
  by.owner = rosa;
  by.nobody = office.client();
  by.visitor = office.client();
  by.lapsed = await person('lapsed');
  await grant('lapsed', common, 'manage');
  await endGrants(office.db, common);
  const deep = await folder(iris, await folder(iris, depths, 'Below'), 'Deep');
  for (const level of ACCESS_LEVELS) {
    by[level] = await person(level);
    for (const top of [common, deep]) await grant(level, top, level);
  }
  by.guest = await person('guest', 'guest');
  for (const top of [common, deep]) await grant('guest', top, 'edit');
  by.none = await person('none');
  by.keeper = await person('keeper');
  await office.db.query(`UPDATE person SET duties = '{run-reach}' WHERE sign_in_name = 'keeper'`);
  by.beside = await person('beside');
  await grant('beside', await folder(iris, common, 'Beside'), 'manage');
  by.above = await person('above');
  await grant('above', depths, 'manage');
  by.ended = await person('ended');
  await grant('ended', common, 'manage');
  const ending = by.ended.cookieHeader('/api/');
  await by.ended.ask('DELETE', '/api/session', undefined, {});
  by.ended = withCookie(ending);
  by.disabled = await person('disabled');
  await grant('disabled', common, 'manage');
  await office.db.query(`UPDATE person SET disabled_at = now() WHERE sign_in_name = 'disabled'`);
  await setInherits(office.db, office.clock.date(), deep, false);
  await setOthersRule(office.db, office.clock.date(), deep, 'read');
  Object.assign(tops, { common, home: office.roots.rosa, depth: deep });
  for (const where of WHERES) await makeAnew(where);
});
afterAll(() => office.close());

const WHERES: Where[] = ['common', 'home', 'depth'];
const makeAnew = async (where: Where) => {
  things[where] = await makeThings(office, by[MAKER[where]], tops[where]);
};

/** A client that sends a cookie, whatever it has been told since. */
function withCookie(cookie: string): Client {
  const client = office.client();
  client.cookieHeader = () => cookie;
  return client;
}

async function commonStore(name: string): Promise<string> {
  const [store, top] = [randomUUID(), randomUUID()];
  await office.db.query(`INSERT INTO store (id, kind, name, created_at) VALUES ($1, 'common', $2, '2026-01-01')`, [
    store,
    name,
  ]);
  await office.db.query(
    `INSERT INTO node (id, store_id, kind, name, name_key, created_at, changed_at, others_rule)
     VALUES ($1, $2, 'folder', $3, lower($3), '2026-01-01', '2026-01-01', 'read')`,
    [top, store, name],
  );
  return top;
}

async function person(name: string, role: 'staff' | 'guest' = 'staff'): Promise<Client> {
  await office.db.query(
    `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at)
     VALUES ($1, $2, $2 || '@saltmarsh.example', $2, 'X', $4, $3, '2026-01-01')`,
    [randomUUID(), name, await hashPassword('weir-lantern-copper-tide'), role],
  );
  const client = office.client();
  await client.ask('POST', '/api/session', { signInName: name, password: 'weir-lantern-copper-tide' });
  return client;
}

async function grant(name: string, folderId: string, level: AccessLevel): Promise<void> {
  const [row] = await office.db.query<{ id: string }[]>('SELECT id FROM person WHERE sign_in_name = $1', [name]);
  await grantOn(office.db, folderId, row?.id as string, level);
}

const hasAccount = (actor: Actor): boolean => !(STRANGERS as readonly Actor[]).includes(actor);
const hasDuty = (actor: Actor, duty: Duty): boolean =>
  actor === 'keeper'
    ? duty === 'run-reach'
    : hasAccount(actor) && READY_DUTIES[actor === 'admin' || actor === 'guest' ? actor : 'staff'].includes(duty);

/** Whether somebody may, on things there. */
function may(actor: Actor, allowed: Allowed, where: Where, route: string): boolean {
  switch (allowed) {
    case 'anyone':
    case 'link':
    case 'first-start':
      return true;
    case 'visit':
      return actor === 'visitor';
    case 'signed-in':
    case 'hindered':
      return hasAccount(actor);
    case 'staff':
      return hasAccount(actor) && actor !== 'guest';
    case 'run-server-there':
      return actor === 'admin' && where !== 'home';
    case 'mine':
      return actor === MAKER[where];
    // Nobody here manages a group; accounts/groups.test.ts has somebody who does.
    case 'group-manager':
      return actor === 'admin';
    case 'publisher':
      return (
        actor === MAKER[where] ||
        (actor === 'admin' && where !== 'home') ||
        // Whoever manages what is shared; guests are told nothing of who else gets it.
        (actor !== 'guest' &&
          can(actor, 'manage', where) &&
          (!route.startsWith('PATCH') || hasDuty(actor, 'publish-outside')))
      );
    case 'publish':
      return hasDuty(actor, 'publish-outside') && can(actor, 'publish', where);
    case 'ask-for-files':
      return hasDuty(actor, 'ask-outside') && can(actor, 'publish', where);
    case 'see-access':
      return actor === 'admin' ? where !== 'home' : can(actor, 'see', where);
    case 'manage-access':
      return actor === 'admin' ? where !== 'home' : can(actor, 'manage', where);
    case 'see-somewhere':
    case 'remove-somewhere':
      return somewhere(actor, allowed.replace('-somewhere', '') as Act, where);
    case 'manage':
      return route.includes('/stores/') ? runsStore(actor, where) : can(actor, 'manage', where);
    default:
      return isDuty(allowed) ? hasDuty(actor, allowed) : can(actor, allowed, where);
  }
}

const dependsOnPlace = (allowed: Allowed): boolean =>
  !isDuty(allowed) && !['anyone', 'link', 'visit', 'signed-in', 'hindered', 'staff', 'first-start'].includes(allowed);
const isDuty = (allowed: Allowed): allowed is Duty => DUTIES.includes(allowed as Duty);
const levelOf = (actor: Actor): AccessLevel | undefined =>
  actor === 'guest' ? 'edit' : ACCESS_LEVELS.find((level) => level === actor);

/** Whether somebody may do this with the things. Past a stop the admin may say who reaches what, and do nothing there. */
function can(actor: Actor, act: Act, where: Where): boolean {
  if (where === 'home') return actor === 'owner';
  if (actor === 'admin') return where === 'common';
  const level = levelOf(actor);
  return level !== undefined && actsOf(level, 'read').all.includes(act);
}

function runsStore(actor: Actor, where: Where): boolean {
  if (where === 'home') return actor === 'owner';
  return actor === 'admin' || actor === (where === 'depth' ? 'above' : 'manage');
}

/** Whether somebody may do this somewhere in the store, if only with what they brought. */
function somewhere(actor: Actor, act: Act, where: Where): boolean {
  if (where === 'home') return actor === 'owner';
  if (actor === 'admin' || actor === (where === 'depth' ? 'above' : 'beside')) return true;
  const level = levelOf(actor);
  return level !== undefined && actsOf(level, 'read').own.includes(act);
}

/** Acts that use up what they name, or somebody's session: what they need is made anew. */
const USES_UP =
  /^(POST \/api\/(trash.*|nodes\/move|folders\/:id\/restore)|PATCH \/api\/nodes.*|POST \/api\/uploads.*|DELETE \/api\/(session|shares|backups|groups|duty-sets).*)$/;

describe('every route', () => {
  it('says who it is for and has an example, or is a page that is the same for everybody', () => {
    const declared = declaredRoutes();
    const routes = routesOf(office).filter((route) => !isPage(route));
    expect(routes.filter((route) => !declared.has(route) || !EXAMPLES[route])).toEqual([]);
    expect([...declared.keys()].filter((route) => !routes.includes(route))).toEqual([]);
  });

  it.each(Object.keys(EXAMPLES))('%s', async (route) => {
    const allowed = declaredRoutes().get(route)?.allowed as Allowed;
    const method = route.split(' ')[0] as string;
    // Where a place decides nothing, one folder is as good as another.
    for (const where of WHERES.filter((w) => w !== 'depth' || dependsOnPlace(allowed)))
      for (const actor of ACTORS[where]) {
        const said = await outcome(route, method, actor, where);
        expect(said, `${actor} (${where})`).toEqual(expected(actor, allowed, where, route));
      }
  });

  /** `yes`, or how it is refused: without a session, or as what may not be done or is not there. */
  async function outcome(route: string, method: string, actor: Actor, where: Where): Promise<string> {
    const named = things[where];
    if (actor === 'visitor') await visit(named);
    // A source may ask for so many visits, and for codes, in a minute.
    if (/^POST .s.:token.(open|code|plain)$/.test(route)) office.clock.advance(1100);
    const client = clientOf(route, actor);
    const example = (EXAMPLES[route] as (t: Things) => { also?: number[]; endless?: boolean; path: string })(named);
    const response = await request(client, method, example);
    if (example.endless) await response.body?.cancel();
    else await response.arrayBuffer();
    const { status } = response;
    if (status < 400 && USES_UP.test(route)) await makeAnew(where);
    if (status < 400 || example.also?.includes(status))
      return status === 403 || status === 404 ? 'yes or not there' : 'yes';
    return status === 401 ? 'sign in' : status === 403 || status === 404 ? 'no' : `status ${status}`;
  }

  /** Nobody keeps what another request gave them; who signs out is somebody else. */
  function clientOf(route: string, actor: Actor): Client {
    if (actor === 'visitor') return by.visitor;
    return withCookie(route === 'DELETE /api/session' ? '' : by[actor].cookieHeader('/api/'));
  }

  function expected(actor: Actor, allowed: Allowed, where: Where, route: string) {
    if (may(actor, allowed, where, route)) return expect.stringMatching(/^yes/) as string;
    if (allowed === 'visit') return 'sign in';
    return hasAccount(actor) ? (expect.stringMatching(/^(no|yes or not there)$/) as string) : 'sign in';
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
      const example = (EXAMPLES[route] as (t: Things) => { path: string })(things.home);
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
  const everybody = EVERYWHERE.filter(hasAccount);
  const all = { common: everybody, home: [...everybody, 'owner' as const] };
  /** Who hears of things in the common store, and of things in a home. A topic without a row does not compile. */
  const HEARD: Record<Topic, { event: (t: Things) => QuayEvent; common: Actor[]; home: Actor[] }> = {
    node: { event: (t) => ({ topic: 'node', id: t.folder }), common: [...STAFF_HERE], home: ['owner'] },
    preview: { event: (t) => ({ topic: 'preview', id: t.file }), common: [...STAFF_HERE], home: ['owner'] },
    store: { event: (t) => ({ topic: 'store', id: t.storeId }), common: ['beside', ...STAFF_HERE], home: ['owner'] },
    share: { event: (t) => ({ topic: 'share', id: t.share.id }), common: ['admin'], home: ['admin', 'owner'] },
    intake: {
      event: (t) => ({ topic: 'intake', id: t.intake.id }),
      common: ['manage', 'admin'],
      home: ['admin', 'owner'],
    },
    ledger: {
      event: (t) => ({ topic: 'ledger', id: 'share.visited', personId: null, shareId: t.share.id }),
      common: ['admin'],
      home: ['admin', 'owner'],
    },
    task: { event: (t) => ({ topic: 'task', id: t.task }), common: ['admin'], home: ['admin'] },
    reach: { event: (t) => ({ topic: 'reach', id: t.address }), ...all },
    missed: { event: () => ({ topic: 'missed', id: '' }), ...all },
    access: { event: () => ({ topic: 'access', id: 'any' }), ...all },
    session: { event: () => ({ topic: 'session', id: 'address' }), ...all },
  };
  it.each(Object.keys(HEARD) as Topic[])('%s', async (topic) => {
    const ears = office.app.get(StaffEars);
    for (const where of ['common', 'home'] as const)
      for (const actor of ACTORS[where].filter(hasAccount)) {
        const secret = sessionSecret(by[actor].cookieHeader('/api/')) ?? '';
        const who = (await office.app.get(SessionService).whoHolds(secret, '127.0.0.1')) as Who;
        const heard = await ears.mayHear(who, HEARD[topic].event(things[where]));
        expect(heard, `${actor} (${where})`).toBe(HEARD[topic][where].includes(actor));
      }
  });
});
