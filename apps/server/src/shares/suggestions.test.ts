import type { KnownRecipient } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close());

const known = async (by: Client) => (await by.ask<KnownRecipient[]>('GET', '/api/shares/recipients')).body;
const listed = (...entries: string[]) => ({
  audience: { kind: 'listed', listed: entries, blocked: ['never@fenway.example'], members: [] },
});

describe('whom somebody may mean', () => {
  it('are those whom their own shares went to, the last first, then people of the office with their names', async () => {
    await office.db.query(`UPDATE person SET email = 'rosa@saltmarsh.example' WHERE sign_in_name = 'rosa'`);
    await office.publish(iris, [], listed('m.hale@fenway.example', 'rosa@saltmarsh.example'));
    office.clock.advance(60_000);
    const share = await office.publish(iris, [], listed('*.brookline.example'));
    await office.publish(tomas, [], listed('tender@council.example'));
    // Somebody of that domain came.
    office.clock.advance(60_000);
    await office.db.query(
      `WITH counted AS (UPDATE share SET visits_used = 1, last_visit_at = $2 WHERE id = $1)
       INSERT INTO visit (id, share_id, cookie_hash, began_at, from_address, agent, recipient)
       VALUES (gen_random_uuid(), $1, sha256('x'), $2, '192.0.2.7', '', 'd@site.brookline.example')`,
      [share.id, office.clock.date()],
    );
    const found = await known(iris);
    const earlier = found.filter((each) => each.lastAt !== null);
    expect(earlier.map((each) => each.entry)).toEqual([
      ...['d@site.brookline.example', '*.brookline.example'],
      ...['m.hale@fenway.example', 'rosa@saltmarsh.example'],
    ]);
    expect(earlier.at(-1)?.name).toMatch(/^Rosa/);
    const others = found.filter((each) => each.lastAt === null);
    expect(others.every((each) => each.name !== null && /@/.test(each.entry))).toBe(true);
    expect(found.map((each) => each.entry)).not.toContain('tender@council.example');
    expect(found.map((each) => each.entry)).not.toContain('never@fenway.example');
    expect((await known(tomas)).map((each) => each.entry)).toContain('tender@council.example');
  });

  it('are told to nobody who may not publish', async () => {
    expect((await office.client().ask('GET', '/api/shares/recipients')).status).toBe(401);
    await office.db.query(
      `UPDATE person SET duties = array_remove(duties, 'publish-outside') WHERE sign_in_name = 'rosa'`,
    );
    const rosa = await office.signedIn('rosa');
    expect((await rosa.ask('GET', '/api/shares/recipients')).status).toBe(403);
  });
});
