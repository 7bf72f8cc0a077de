import { randomBytes } from 'node:crypto';
import { request, type ClientRequest, type IncomingMessage } from 'node:http';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { endGrants, grantOn, setDisabled, setInherits } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

const LARGE = 48 * 1024 * 1024;
let office: TestOffice;
/** Another server process, in effect, on the same database and folder. */
let second: TestOffice;
let iris: Client;
let rosa: Client;
let rosaId: string;
let place: string;
let file: string;

beforeAll(async () => {
  office = await openOffice();
  second = await openOffice({ ...office.config, port: 0 }, false);
  [iris, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('rosa')]);
  rosaId = (await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'rosa'`))[0]?.id ?? '';
});
beforeEach(async () => {
  place = await folder(iris, office.roots.partners, `Place ${Math.random()}`);
  file = (await iris.upload(place, 'cloud.bin', randomBytes(LARGE))).body.id;
});
afterAll(async () => {
  await second.close({ withFiles: false });
  await office.close();
});

/** A download that has begun and is not read on until it is asked what came of it: all of it, or a part and an end. */
async function begun(by: Client, path: string): Promise<() => Promise<'all' | 'cut'>> {
  const url = new URL(path, by.origin);
  const response = await new Promise<IncomingMessage>((resolve, reject) =>
    request(url, { headers: { cookie: by.cookieHeader(url.pathname) } }, resolve)
      .once('error', reject)
      .end(),
  );
  expect(response.statusCode).toBe(200);
  const announced = Number(response.headers['content-length']);
  return () =>
    new Promise((resolve) => {
      let bytes = 0;
      response.on('data', (piece: Buffer) => (bytes += piece.length));
      response.once('close', () => resolve(bytes === announced ? 'all' : 'cut'));
      response.once('error', () => undefined);
    });
}

/** An upload of which half has been sent. */
async function halfSent(by: Client, name: string): Promise<{ outgoing: ClientRequest; ended: Promise<string> }> {
  const url = new URL(`/api/folders/${place}/files?name=${name}`, by.origin);
  const headers = {
    cookie: by.cookieHeader(url.pathname),
    'content-length': '200000',
    'content-type': 'application/x',
  };
  const outgoing = request(url, { method: 'PUT', headers });
  const ended = new Promise<string>((resolve) => {
    outgoing.once('response', (r) => resolve(String(r.statusCode)));
    outgoing.once('error', () => resolve('cut'));
  });
  outgoing.write(randomBytes(100_000));
  await new Promise((r) => setTimeout(r, 200));
  return { outgoing, ended };
}

const content = () => `/api/files/${file}/content`;
const soon = (ms = 1500) => new Promise((r) => setTimeout(r, ms));

describe('a transfer that runs while access ends', () => {
  it('is destroyed when a grant is ended, a folder closes, or the account is disabled; in every server process', async () => {
    const ends: (() => Promise<unknown>)[] = [
      () => endGrants(office.db, place),
      () => setInherits(office.db, office.clock.date(), place, false),
      () => setDisabled(office.db, office.clock.date(), 'rosa', true),
    ];
    for (const [i, end] of ends.entries()) {
      await grantOn(office.db, i === 1 ? office.roots.partners : place, rosaId, 'download');
      const here = await begun(rosa, content());
      const there = await begun(rosa.at(second.origin), content());
      await end();
      await soon(300);
      expect([await here(), await there()]).toEqual(['cut', 'cut']);
      if (i === 1) await endGrants(office.db, office.roots.partners);
    }
    await setDisabled(office.db, office.clock.date(), 'rosa', false);
    rosa = await office.signedIn('rosa');
  });
  it('goes on when something else changes', async () => {
    await grantOn(office.db, place, rosaId, 'download');
    const download = await begun(rosa, content());
    const other = await folder(iris, office.roots.partners, `Other ${Math.random()}`);
    await grantOn(office.db, other, rosaId, 'view');
    await soon(300);
    expect(await download()).toBe('all');
  });
  it('is destroyed at the moment a grant ends by itself, without anybody writing anything', async () => {
    await grantOn(office.db, place, rosaId, 'download', { until: new Date(office.clock.now() + 60_000) });
    const download = await begun(rosa, content());
    const archive = await begun(rosa, `/api/archive?ids=${place}`);
    office.clock.advance(60_000);
    await soon();
    expect([await download(), await archive()]).toEqual(['cut', 'cut']);
  });
  it('is destroyed at the moment the account of a guest ends by itself; half an upload is no file', async () => {
    const [{ id }] = await office.db.query<[{ id: string }]>(
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, sponsor_id, ends_at)
       SELECT gen_random_uuid(), 'pell', 'pell@calder.example', 'Pell Calder', 'PC', 'guest', password_hash, created_at, id, $1
         FROM person WHERE sign_in_name = 'tomas' RETURNING id`,
      [new Date(office.clock.now() + 60_000)],
    );
    await grantOn(office.db, place, id, 'edit');
    const pell = office.client();
    await pell.ask('POST', '/api/session', { signInName: 'pell', password: 'gravel-heron-silent-oar' });
    const download = await begun(pell, content());
    const upload = await halfSent(pell, 'half.bin');
    office.clock.advance(60_000);
    await soon();
    expect([await download(), await upload.ended]).toEqual(['cut', 'cut']);
    expect(await office.db.query(`SELECT 1 FROM node WHERE name = 'half.bin'`)).toEqual([]);
    expect((await pell.ask('GET', '/api/stores')).status).toBe(401);
  });
  it('is destroyed although the event connection was cut while it ended', async () => {
    await grantOn(office.db, place, rosaId, 'download');
    const here = await begun(rosa, content());
    const there = await begun(rosa.at(second.origin), content());
    await office.db.query(
      `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND query LIKE 'LISTEN%'`,
    );
    await endGrants(office.db, place);
    await soon();
    expect([await here(), await there()]).toEqual(['cut', 'cut']);
  });
  it('is destroyed on its way in, and leaves nothing', async () => {
    await grantOn(office.db, place, rosaId, 'contribute');
    const { outgoing, ended } = await halfSent(rosa, 'half.bin');
    await endGrants(office.db, place);
    expect(await ended).not.toBe('201');
    outgoing.destroy();
    expect(await office.db.query(`SELECT 1 FROM node WHERE name = 'half.bin'`)).toEqual([]);
  });
  it('of a visitor is destroyed when the share is withdrawn, closes, or its publisher may not publish any more', async () => {
    const ends: ((id: string) => Promise<unknown>)[] = [
      (id) => iris.ask('PATCH', `/api/shares/${id}`, { withdrawn: true }),
      () => Promise.resolve(office.clock.advance(60_000)),
      () => setInherits(office.db, office.clock.date(), place, false),
    ];
    for (const end of ends) {
      const closesAt = new Date(office.clock.now() + 60_000).toISOString();
      const share = await office.publish(iris, [file], { window: { opensAt: null, closesAt } });
      const visitor = office.client();
      await visitor.ask('POST', `/s/${share.token}/open`, { password: null });
      const one = await begun(visitor, `/s/${share.token}/files/${file}`);
      const all = await begun(visitor, `/s/${share.token}/all.zip`);
      await end(share.id);
      await soon();
      expect([await one(), await all()]).toEqual(['cut', 'cut']);
    }
  });
});
