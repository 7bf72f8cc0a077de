import type { VisitorDoor } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import pg from 'pg';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import { Events } from '../platform/events/events.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
});
afterAll(() => office.close());

/** The facts about a share are remembered until something changes. Nothing is made of what is put there. */
async function forgotten(): Promise<void> {
  const heard = new Promise((resolve) => office.app.get(Events).stream.subscribe(resolve));
  await iris.upload(office.roots.projects, `${randomUUID()}.bin`, Buffer.from('x'));
  await heard;
}

/** What PostgreSQL is asked meanwhile about the tables of shares and visits. */
async function asked(work: () => Promise<unknown>): Promise<string[]> {
  const queries = vi.spyOn(pg.Client.prototype, 'query');
  try {
    await work();
    return queries.mock.calls
      .map(([query]) => (typeof query === 'string' ? query : ((query as { text?: string } | undefined)?.text ?? '')))
      .filter((text) => /\b(share|visit|node|share_\w+)\b/.test(text) && !/jobs\./.test(text));
  } finally {
    queries.mockRestore();
  }
}

it('a decision about a visit takes at most three questions to the database, however much is in the folder', async () => {
  const { id: folder } = (
    await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Asked' })
  ).body;
  const ids: string[] = [];
  for (let n = 0; n < 12; n += 1) ids.push((await iris.upload(folder, `${n}.bin`, Buffer.from(`${n}`))).body.id);
  const share = await office.publish(iris, [folder]);
  const visitor = office.client();
  await visitor.ask<VisitorDoor>('POST', `/s/${share.token}/open`, { password: null });
  const take = (id: string) => visitor.fetch(`/s/${share.token}/files/${id}`);
  // That it was taken is written down once.
  for (const id of ids) expect((await take(id)).status).toBe(200);
  await forgotten();
  const one = await asked(async () => expect((await take(ids[0] as string)).status).toBe(200));
  expect(one.length).toBeGreaterThan(0);
  expect(one.length).toBeLessThanOrEqual(3);
  // Those that follow ask for their own file alone.
  const next = await asked(async () => expect((await take(ids[1] as string)).status).toBe(200));
  expect(next.length).toBeLessThanOrEqual(1);
});
