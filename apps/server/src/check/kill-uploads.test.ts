import { randomBytes } from 'node:crypto';
import { expect, it } from 'vitest';
import { killedWhile, sha256, uploadOne, type Work } from '../_fixtures/killing.js';

const b64 = (text: string) => Buffer.from(text).toString('base64');
const PIECE = 60_000;
/** Resumable uploads (tus 1.0) that are under way: they go on after the server has come back. */
const begun: { at: string; bytes: Buffer }[] = [];
let resumed = 0;

async function goOn({ iris, pick, promised, random }: Work): Promise<void> {
  const one = pick(begun);
  const headers = { 'Tus-Resumable': '1.0.0' };
  const head = await iris.fetch(one.at, { method: 'HEAD', headers });
  if (head.status === 404) return void begun.splice(begun.indexOf(one), 1);
  const offset = Number(head.headers.get('upload-offset'));
  if (random() < 0.1) return void (await iris.fetch(one.at, { method: 'DELETE', headers }));
  if (offset > 0) resumed += 1;
  const { status } = await iris.fetch(one.at, {
    method: 'PATCH',
    headers: { ...headers, 'Upload-Offset': String(offset), 'Content-Type': 'application/offset+octet-stream' },
    body: new Uint8Array(one.bytes.subarray(offset, offset + PIECE)),
  });
  if (status !== 204 || offset + PIECE < one.bytes.length) return;
  const { body } = await iris.ask<{ answer: { id: string } | null }>('GET', one.at);
  if (body.answer) promised.set(body.answer.id, sha256(one.bytes));
}

async function bring(work: Work): Promise<void> {
  const { iris, random, pick, folders } = work;
  const dice = random();
  if (dice < 0.3) return await uploadOne(work);
  if (dice < 0.8 && begun.length > 0) return await goOn(work);
  const bytes = randomBytes(PIECE * 3 - 1);
  const metadata = `folderId ${b64(pick(folders))},name ${b64(`r${Math.floor(random() * 1000)}.bin`)},conflict ${b64('keep-both')}`;
  const { status, headers } = await iris.fetch('/api/uploads', {
    method: 'POST',
    headers: { 'Tus-Resumable': '1.0.0', 'Upload-Length': String(bytes.length), 'Upload-Metadata': metadata },
  });
  if (status === 201) begun.push({ at: headers.get('location') as string, bytes });
}

it(
  'killed at moments of uploads, whole and in pieces: everything that must hold does, nothing that was acknowledged is lost',
  { timeout: 400_000 },
  async () => {
    // On a machine that has much else to do, it takes more rounds until an upload goes on.
    await killedWhile(bring, () => resumed > 0);
    expect(resumed).toBeGreaterThan(0);
  },
);
