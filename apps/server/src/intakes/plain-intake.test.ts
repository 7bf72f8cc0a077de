import type { IntakeSheet } from '@quay/contract';
import { execFile } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { askForFiles } from '../_fixtures/intakes.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { PACE } from '../platform/pace.js';

// curl sends forms as browsers do (RFC 7578).

const run = promisify(execFile);
const PASSWORD = 'gravel-heron-silent-oar';
let office: TestOffice;
let iris: Client;
let into: string;
const work = mkdtempSync(join(tmpdir(), 'quay-plain-'));
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  into = await folder(iris, office.roots.projects, 'Photographs');
});
afterAll(async () => {
  await office.close();
  rmSync(work, { recursive: true, force: true });
});

const curl = async (jar: string, ...args: string[]) =>
  (await run('curl', ['-sS', '-L', '-b', join(work, jar), '-c', join(work, jar), ...args])).stdout;
const file = (name: string, bytes: Buffer) => (writeFileSync(join(work, name), bytes), join(work, name));
const sheetOf = async (id: string) => (await iris.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body;

/** Sends the beginning of a form, and nothing more. @returns how long it took until the connection ended, in ms */
async function halfForm(at: URL, cookie: string, body: string, endAfterMs: number | null): Promise<number> {
  const began = performance.now();
  const head = [
    `POST ${at.pathname}/files HTTP/1.1`,
    ...[
      `Host: ${at.host}`,
      `Cookie: ${cookie}`,
      'Content-Type: multipart/form-data; boundary=b',
      'Content-Length: 900',
    ],
  ].join('\r\n');
  await new Promise<void>((resolve) => {
    const socket = connect(Number(at.port), at.hostname, () => {
      socket.write(`${head}\r\n\r\n${body}`);
      if (endAfterMs !== null) setTimeout(() => socket.destroy(), endAfterMs);
    });
    socket.on('error', () => undefined);
    // Whoever is answered is done.
    socket.on('data', () => socket.destroy());
    socket.on('close', () => resolve());
  });
  return performance.now() - began;
}
const FILE_BEGINS = '--b\r\nContent-Disposition: form-data; name="file"; filename="cut.pdf"\r\n\r\nhalf';

describe('the page of an intake without script', () => {
  it('takes one file after the other, back and in, behind its password, and leads to the receipt', async () => {
    const own = [{ id: '0b3a1b1e-6d0a-4d2e-9f2e-6a5f3c1d2e3f', words: 'Which <day>?', must: true }];
    const intake = await askForFiles(iris, into, {
      ...{ password: PASSWORD, questions: { name: 'must', mail: 'no', firm: 'no', own } },
    });
    const at = `${office.origin}/h/${intake.token}/plain`;
    expect(await curl('one', at)).toContain('name="password"');
    expect(await curl('one', '--data-urlencode', 'password=wrong', at)).toContain('That is not the password.');
    expect(await curl('one', '--data-urlencode', `password=${PASSWORD}`, at)).toContain('name="file"');
    const cloud = randomBytes(3_000_000);
    const sent = await curl('one', '-F', `file=@${file('cloud.xyz', cloud)}`, `${at}/files`);
    expect(sent).toContain('cloud.xyz');
    await curl('one', '-F', `file=@${file('no.txt', Buffer.from('no'))};filename="\u00fcber <b>.txt"`, `${at}/files`);
    const two = await curl('one', '-F', `file=@${file('empty.txt', Buffer.alloc(0))}`, `${at}/files`);
    expect(two).toContain('Ready to hand in: 3 files, 3 MB');
    expect(two).not.toContain('<b>');
    const [, id = ''] =
      /name="id" value="([^"]+)"[^]*?aria-label="Take back \u00fcber/.exec(
        two.slice(two.lastIndexOf('<li>', two.indexOf('Take back \u00fcber'))),
      ) ?? [];
    expect(await curl('one', '-d', `id=${id}`, `${at}/take-back`)).toContain('Ready to hand in: 2 files');
    // What was typed stays where something is wrong with it.
    const wrong = await curl('one', '--data-urlencode', 'name=Zoe "Z" Calder', `${at}/hand-in`);
    expect(wrong).toContain('Zoe &quot;Z&quot; Calder');
    expect((await sheetOf(intake.id)).deposits).toBe(0);
    const receipt = await curl(
      ...(['one', '-d', 'name=Zoe Calder', '-d', `own.${own[0]?.id}=Monday`, `${at}/hand-in`] as const),
    );
    expect(receipt).toContain(createHash('sha256').update(cloud).digest('hex'));
    const sheet = await sheetOf(intake.id);
    expect(sheet).toMatchObject({ deposits: 1, files: 2, bytes: 3_000_000 });
    expect(sheet.handedIn[0]?.answers).toEqual([{ asked: 'Which <day>?', said: 'Monday' }]);
    // Nobody else sees any of it.
    expect(await curl('two', at)).not.toContain('cloud.xyz');
  });

  it('refuses what is too large, of another kind or cut off, and keeps nothing of it', async () => {
    const limits = { fileBytes: 1000, files: 2, contributorBytes: 5000, allBytes: 5000, kinds: ['pdf'] };
    const intake = await askForFiles(iris, into, { limits });
    const at = `${office.origin}/h/${intake.token}/plain`;
    const send = (name: string, bytes: Buffer) => curl('three', '-F', `file=@${file(name, bytes)}`, `${at}/files`);
    expect(await send('just.pdf', Buffer.alloc(1000, 1))).toContain('just.pdf');
    expect(await send('large.pdf', Buffer.alloc(1200, 1))).toMatch(/role="alert"/);
    expect(await send('site.jpg', Buffer.alloc(10, 1))).toMatch(/role="alert"/);
    expect(await curl('three', '-F', 'file=', `${at}/files`)).toContain('Choose a file first.');
    // A connection that ends in the middle of a form.
    const cookie = `quay_deposit=${/quay_deposit\s+(\S+)/.exec((await run('cat', [join(work, 'three')])).stdout)?.[1]}`;
    await halfForm(new URL(at), cookie, FILE_BEGINS, 500);
    await expect
      .poll(async () => office.db.query('SELECT path FROM deposit_file WHERE path = $1', ['cut.pdf']), {
        timeout: 20_000,
      })
      .toEqual([]);
    const taken = await office.db.query<{ taken: number }[]>(
      'SELECT taken_bytes::float8 AS taken FROM intake WHERE id = $1',
      [intake.id],
    );
    expect(taken).toEqual([{ taken: 1000 }]);
    expect(await curl('three', at)).toContain('Ready to hand in: 1 file');
  });

  it('leaves nothing of a form that was on its way when the intake was withdrawn', async () => {
    const intake = await askForFiles(iris, into);
    const at = new URL(`${office.origin}/h/${intake.token}/plain/files`);
    const heard = new Promise<string>((resolve) => {
      const socket = connect(Number(at.port), at.hostname, () =>
        socket.write(
          `POST ${at.pathname} HTTP/1.1\r\nHost: ${at.host}\r\nContent-Type: multipart/form-data; boundary=b\r\n` +
            `Content-Length: 900000\r\n\r\n${FILE_BEGINS}`,
        ),
      );
      const going = setInterval(() => socket.writable && socket.write('y'.repeat(1000)), 200);
      socket.on('error', () => undefined);
      socket.once('data', (said) => (resolve(said.toString()), socket.destroy()));
      socket.on('close', () => clearInterval(going));
    });
    const taken = async () =>
      (
        await office.db.query<{ taken: number; files: number; held: number }[]>(
          `SELECT i.taken_bytes::float8 AS taken, count(f.id)::int AS files, count(h.id)::int AS held FROM intake i
             LEFT JOIN deposit d ON d.intake_id = i.id LEFT JOIN deposit_file f ON f.deposit_id = d.id
             LEFT JOIN room_held h ON h.deposit_file_id = f.id WHERE i.id = $1 GROUP BY i.id`,
          [intake.id],
        )
      )[0];
    await expect.poll(async () => (await taken())?.held, { timeout: 20_000 }).toBe(1);
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { withdrawn: true });
    expect(await heard).toMatch(/^HTTP\/1\.1 4/);
    await expect.poll(taken, { timeout: 20_000 }).toEqual({ taken: 0, files: 0, held: 0 });
  });

  it('ends for whoever sends nothing for long, before the file as within it', async () => {
    const slow = await openOffice({ pace: { ...PACE, stretchMs: 700, leastBytes: 2000 } });
    try {
      const by = await slow.signedIn('iris');
      const intake = await askForFiles(by, slow.roots.projects);
      const at = new URL(`${slow.origin}/h/${intake.token}/plain`);
      for (const body of ['', FILE_BEGINS]) await halfForm(at, 'a=b', body, null);
      const left = () => slow.db.query('SELECT path FROM deposit_file');
      await expect.poll(left, { timeout: 20_000 }).toEqual([]);
    } finally {
      await slow.close();
    }
  }, 60_000);
});
