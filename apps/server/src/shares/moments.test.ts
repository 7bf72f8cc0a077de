import type { WorkList } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';

// Times are the machine's: the queue is PostgreSQL's, and waits by its clock.
let office: TestOffice;
let second: TestOffice;
let iris: Client;
let file: string;

beforeAll(async () => {
  office = await openOffice();
  office.clock.at = Date.now();
  second = await openOffice({ ...office.config, port: 0 }, false);
  second.clock.at = Date.now();
  iris = await office.signedIn('iris');
  file = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(async () => {
  await second.close({ withFiles: false });
  await office.close();
});

const inSeconds = (s: number) => new Date(office.clock.now() + s * 1000);
const told = (id: string) =>
  office.db.query<{ kind: string; actor_kind: string }[]>(
    `SELECT kind, actor_kind FROM ledger_entry WHERE share_id = $1 AND kind IN ('share.opens', 'share.closes') ORDER BY seq`,
    [id],
  );
/** Both clocks go on as the machine's does. */
async function passes(ms: number): Promise<void> {
  await new Promise((r) => setTimeout(r, ms));
  for (const each of [office, second]) each.clock.at = Date.now();
}
async function until(what: () => Promise<boolean>, mostMs = 15_000): Promise<void> {
  for (const late = Date.now() + mostMs; !(await what());) {
    if (Date.now() > late) throw new Error('it did not happen');
    await passes(200);
  }
}

describe('the times of a share', () => {
  it('are told at their moment, once, by whichever of two servers is first: with an event and a line in the ledger', async () => {
    const heard: string[] = [];
    const listening = second.app.get(Events).stream.subscribe((e) => e.topic === 'share' && heard.push(e.id));
    const [opensAt, closesAt] = [inSeconds(1), inSeconds(4)];
    const share = await office.publish(iris, [file], {
      window: { opensAt: opensAt.toISOString(), closesAt: closesAt.toISOString() },
    });
    await passes(100);
    heard.length = 0;
    await until(async () => (await told(share.id)).length === 1);
    expect(heard).toContain(share.id);
    await until(async () => (await told(share.id)).length === 2);
    await passes(2500);
    expect(await told(share.id)).toEqual([
      { kind: 'share.opens', actor_kind: 'system' },
      { kind: 'share.closes', actor_kind: 'system' },
    ]);
    listening.unsubscribe();
  });
  it('that are changed are told at the new ones, and of what was withdrawn nothing is', async () => {
    const closing = (s: number) => ({ window: { opensAt: null, closesAt: inSeconds(s).toISOString() } });
    const [moved, withdrawn] = [
      await office.publish(iris, [file], closing(3)),
      await office.publish(iris, [file], closing(3)),
    ];
    await iris.ask('PATCH', `/api/shares/${moved.id}`, closing(6));
    await iris.ask('PATCH', `/api/shares/${withdrawn.id}`, { withdrawn: true });
    await passes(5000);
    expect([await told(moved.id), await told(withdrawn.id)]).toEqual([[], []]);
    await until(async () => (await told(moved.id)).length === 1);
  });
  it('are told after the server was off, and those of a backup too', async () => {
    const share = await office.publish(iris, [file], {
      window: { opensAt: null, closesAt: inSeconds(3600).toISOString() },
    });
    // As if it had been restored from elsewhere, an hour later, without its job.
    await office.db.query(`DELETE FROM jobs.job WHERE name = 'share-moment'`);
    await office.db.query('UPDATE share SET closes_at = $2 WHERE id = $1', [share.id, inSeconds(-60)]);
    await office.app.get(Housekeeping).tidy();
    await until(async () => (await told(share.id)).length === 1);
  });
  it('that wait are listed for whoever runs the server, soonest first', async () => {
    const share = await office.publish(iris, [file], {
      title: 'Weir House levels',
      window: { opensAt: null, closesAt: inSeconds(86_400).toISOString() },
    });
    const { body } = await iris.ask<WorkList>('GET', '/api/work');
    expect(body.waiting.find((w) => w.words === 'A share closes')).toMatchObject({
      kind: 'share-moment',
      state: 'waiting',
      tries: 0,
    });
    expect(share.id).toBeTruthy();
    const tomas = await office.signedIn('tomas');
    const mine = (await tomas.upload(office.roots.tomas, 'private.txt', Buffer.from('x'))).body.id;
    await office.publish(tomas, [mine], { title: 'A private matter' });
    expect(JSON.stringify((await iris.ask('GET', '/api/work')).body)).not.toMatch(/private matter|Weir House/);
    expect((await tomas.ask('GET', '/api/work')).body.code).toBe('duty.missing');
  });
});
