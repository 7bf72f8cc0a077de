import { expect, it } from 'vitest';
import { killedWhile, uploadOne, type Work } from '../_fixtures/killing.js';

const trashed: string[] = [];

async function arrange(work: Work): Promise<void> {
  const { iris, random, pick, folders, promised } = work;
  const ids = [...promised.keys()];
  // On a slow machine little is done: something is thrown away as soon as there is enough.
  const dice = trashed.length === 0 && ids.length >= 4 ? 0.85 : random();
  const toFolderId = pick(folders);
  if (dice < 0.4 || ids.length < 4) await uploadOne(work);
  else if (dice < 0.5) {
    const name = `d${Math.floor(random() * 1000)}`;
    const { status, body } = await iris.ask<{ id: string }>('POST', `/api/folders/${toFolderId}/folders`, { name });
    if (status === 201 && folders.length < 12) folders.push(body.id);
  } else if (dice < 0.65)
    await iris.ask('POST', '/api/nodes/move', { nodeIds: [pick(ids)], toFolderId, ifTaken: 'keep-both' });
  else if (dice < 0.72) await iris.ask('POST', '/api/nodes/copy', { nodeIds: [pick(ids)], toFolderId });
  else if (dice < 0.8) await iris.ask('POST', `/api/files/${pick(ids)}/versions/1/restore`);
  else if (dice < 0.9) {
    const id = pick(ids);
    // From here on it may be there or not, whatever the answer.
    promised.delete(id);
    trashed.push(id);
    await iris.ask('POST', '/api/trash', { nodeIds: [id] });
  } else if (trashed.length > 0)
    await iris.ask('POST', dice < 0.96 ? '/api/trash/purge' : '/api/trash/put-back', { nodeIds: [pick(trashed)] });
}

it(
  'killed at moments of uploads, moves, restores and purges: everything that must hold does, nothing that was acknowledged is lost',
  { timeout: 400_000 },
  async () => {
    await killedWhile(arrange, () => trashed.length > 0);
    expect(trashed.length).toBeGreaterThan(0);
  },
);
