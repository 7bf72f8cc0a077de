import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { folder, move, rename } from '../_fixtures/acts.js';
import { grantOn } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  tomas = await office.signedIn('tomas');
});
afterAll(() => office.close());

it('what one person does at once, at the first moment after something about access has changed, is all done', async () => {
  const place = await folder(tomas, office.roots.projects, 'Races');
  const other = await folder(tomas, office.roots.projects, 'Elsewhere');
  const files = await Promise.all(
    Array.from({ length: 8 }, async (_, n) => (await tomas.upload(place, `${n}.txt`, Buffer.from(`${n}`))).body.id),
  );
  const share = await office.publish(tomas, [files[0] as string]);
  const all: string[] = [];
  for (let round = 0; round < 6; round += 1) {
    const aside = await folder(tomas, office.roots.projects, `Aside ${round}`);
    await grantOn(office.db, aside, null, 'view');
    const answers = await Promise.all([
      ...files.slice(1, 4).map((id) => rename(tomas, id, `${randomUUID()}.txt`)),
      tomas.ask('PATCH', `/api/shares/${share.id}`, { title: `Title ${round}` }),
      ...Array.from({ length: 3 }, () => office.client().ask('POST', `/s/${share.token}/open`, { password: null })),
      move(tomas, [files[5] as string], round % 2 ? place : other),
      tomas.upload(place, `more ${round}.txt`, Buffer.from('more')),
      tomas.ask('POST', '/api/trash', { nodeIds: [files[6]] }),
      tomas.ask('POST', '/api/trash/put-back', { nodeIds: [files[6]] }),
      folder(tomas, place, `Folder ${round}`).then(() => ({ status: 200, body: {} })),
    ]);
    all.push(...answers.map((a) => `${a.status} ${(a.body as { code?: string } | undefined)?.code ?? ''}`));
  }
  expect(all.filter((s) => !/^2/.test(s))).toEqual([]);
}, 120_000);
