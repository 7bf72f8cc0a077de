import { randomBytes } from 'node:crypto';
import { connect, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { askForFiles, outsider } from '../_fixtures/intakes.js';
import { openOffice, PASSWORDS, type Client, type TestOffice } from '../_fixtures/office.js';
import { readersHold } from './blobs/reader-memory.js';
import { sourceOf } from './client-address.js';
import { PACE } from './pace.js';

let office: TestOffice;
let iris: Client;
let large = '';
beforeAll(async () => {
  // A proxy that is named says where somebody comes from: so the tests can come from many places.
  // A reader may stand still, and a body stay unended, longer than it takes to let all of them in on a busy machine: so
  // all are there at once.
  office = await openOffice({
    pace: { ...PACE, stretchMs: 12_000, leastBytes: 1000, bodyMs: 10_000 },
    reach: { ...(await import('./config.js')).NO_REACH, trustedProxies: ['127.0.0.1'] },
  });
  iris = await office.signedIn('iris');
  large = (await iris.upload(office.roots.projects, 'cloud.las', randomBytes(40_000_000))).body.id;
});
afterAll(() => office.close());

const sleep = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));
const until = async (holds: () => boolean) => {
  for (let tries = 0; tries < 600 && !holds(); tries += 1) await sleep(100);
  expect(holds()).toBe(true);
};
const port = () => Number(new URL(office.origin).port);

/** A connection on which these bytes are said and nothing is ever read, unless it is asked for. */
function says(bytes: string, read = false): Promise<Socket & { heard?: string; over?: boolean }> {
  return new Promise((resolve) => {
    const socket: Socket & { heard?: string; over?: boolean } = connect(port(), '127.0.0.1', () => {
      socket.write(bytes, () => resolve(socket));
    });
    socket.heard = '';
    socket.on('error', () => undefined);
    socket.on('close', () => (socket.over = true));
    if (read) socket.on('data', (piece) => (socket.heard += piece.toString()));
    else socket.pause();
  });
}

describe('readers who take nothing', () => {
  it('hold little, end soon, and keep nobody from downloading', async () => {
    const cookie = iris.cookieHeader('/api/');
    const head = `GET /api/files/${large}/content HTTP/1.1\r\nHost: x\r\nCookie: ${cookie}\r\n\r\n`;
    const stalled = await Promise.all(Array.from({ length: 150 }, () => says(head)));
    await until(() => readersHold().readers > 100);
    expect(readersHold().largeBytes).toBeLessThanOrEqual(64 * 1024 * 1024);
    expect((await (await iris.fetch(`/api/files/${large}/content`)).arrayBuffer()).byteLength).toBe(40_000_000);
    await until(() => readersHold().readers === 0);
    expect(readersHold().largeBytes).toBe(0);
    for (const socket of stalled) socket.destroy();
  });
});

describe('bodies that are begun and not ended', () => {
  const begun = (from: string) =>
    says(
      `POST /api/session HTTP/1.1\r\nHost: x\r\nX-Forwarded-For: ${from}\r\nContent-Type: application/json\r\nContent-Length: 500\r\n\r\n{`,
      true,
    );
  it('are so many from one place, end soon, and shut nobody out', async () => {
    const many = await Promise.all(Array.from({ length: 130 }, () => begun('203.0.113.9')));
    await until(() => many.filter((s) => s.heard?.startsWith('HTTP/1.1 429 ')).length === 30);
    const signedIn = await office
      .client()
      .ask('POST', '/api/session', { signInName: 'tomas', password: PASSWORDS.tomas });
    expect(signedIn.status).toBe(204);
    await until(() => many.every((s) => s.over));
    expect(many.filter((s) => s.heard?.startsWith('HTTP/1.1 408 '))).toHaveLength(100);
  });
  it('of an IPv6 network count together (RFC 6177: a site has at least a /64)', async () => {
    expect(sourceOf('2001:db8:1:2:aaaa::1')).toBe(sourceOf('2001:db8:1:2:bbbb::2'));
    expect(sourceOf('2001:db8:1:3::1')).not.toBe(sourceOf('2001:db8:1:2::1'));
    expect(sourceOf('198.51.100.7')).toBe('198.51.100.7');
    const many = await Promise.all(Array.from({ length: 110 }, (_, n) => begun(`2001:db8:1:2::${n.toString(16)}`)));
    await until(() => many.filter((s) => s.heard?.startsWith('HTTP/1.1 429 ')).length === 10);
    for (const socket of many) socket.destroy();
  });
  it('an upload that nobody may make is refused at once, and its connection ends', async () => {
    const socket = await says(
      `PUT /api/folders/${office.roots.projects}/files?name=x HTTP/1.1\r\nHost: x\r\nContent-Length: 90000000\r\n\r\nx`,
      true,
    );
    await until(() => socket.over === true);
    expect(socket.heard).toMatch(/^HTTP\/1\.1 401 /);
    const resumable = await says(
      `PATCH /api/uploads/${large} HTTP/1.1\r\nHost: x\r\nContent-Length: 90000000\r\n\r\nx`,
      true,
    );
    await until(() => resumable.over === true);
    expect(resumable.heard).toMatch(/^HTTP\/1\.1 401 /);
    for (const link of ['s', 'h'].map((way) => `/${way}/${'A'.repeat(22)}/uploads/${large}`)) {
      const stranger = await says(`PATCH ${link} HTTP/1.1\r\nHost: x\r\nContent-Length: 90000000\r\n\r\nx`, true);
      await until(() => stranger.over === true);
      expect(stranger.heard).toMatch(/^HTTP\/1\.1 404 /);
    }
  });
  it('are no uploads: what outsiders bring slowly arrives, however long it takes', async () => {
    const intake = await askForFiles(iris, office.roots.projects);
    const zoe = await outsider(office, intake.token);
    const shared = await folder(iris, office.roots.projects, 'Slow');
    const share = await office.publish(iris, [shared], {
      may: { level: 'contribute', seesOthers: true, takesBytes: 1e9, watermark: 'none', fileLimit: null },
    });
    const visitor = office.client();
    await visitor.ask('POST', `/s/${share.token}/open`, { password: null });
    const slow = async (client: Client, base: string, more: string) => {
      const begun = await client.fetch(`${base}/uploads`, {
        method: 'POST',
        headers: {
          ...{ 'Tus-Resumable': '1.0.0', 'Upload-Length': '60000' },
          'Upload-Metadata': `name ${Buffer.from('slow.bin').toString('base64')}${more}`,
        },
      });
      expect(begun.status).toBe(201);
      const at = new URL(begun.headers.get('location') ?? '', office.origin).pathname;
      const socket = await says(
        [
          ...[`PATCH ${at} HTTP/1.1`, 'Host: x', 'Tus-Resumable: 1.0.0', 'Upload-Offset: 0', 'Content-Length: 60000'],
          ...['Content-Type: application/offset+octet-stream', `Cookie: ${client.cookieHeader(`${base}/`)}`, '', ''],
        ].join('\r\n'),
        true,
      );
      // Longer than a small body may take.
      for (let sent = 0; sent < 12; sent += 1) {
        socket.write(randomBytes(5000));
        await sleep(1000);
      }
      await until(() => (socket.heard ?? '') !== '');
      socket.destroy();
      return socket.heard;
    };
    const folderId = `,folderId ${Buffer.from(shared).toString('base64')}`;
    const said = await Promise.all([
      slow(zoe.client, `/h/${intake.token}`, ''),
      slow(visitor, `/s/${share.token}`, folderId),
    ]);
    for (const heard of said) expect(heard).toMatch(/^HTTP\/1\.1 204 /);
  }, 120_000);
});

describe('signing in', () => {
  const signIn = (by: Client, password: string, from: string) =>
    by.ask('POST', '/api/session', { signInName: 'rosa', password }, { 'x-forwarded-for': from });
  it('guesses from one place keep nobody out elsewhere, and nobody whose browser is known', async () => {
    const known = office.client();
    expect((await signIn(known, PASSWORDS.rosa, '192.0.2.1')).status).toBe(204);
    const guessing = Array.from({ length: 12 }, () => signIn(office.client(), 'wrong', '198.51.100.9'));
    expect((await Promise.all(guessing)).map((a) => a.status)).toContain(429);
    expect((await signIn(office.client(), PASSWORDS.rosa, '198.51.100.9')).status).toBe(429);
    expect((await signIn(office.client(), PASSWORDS.rosa, '192.0.2.77')).status).toBe(204);
    // From everywhere at once: strangers are slowed, her own browser is not.
    for (let n = 0; n < 110; n += 1) await signIn(office.client(), 'wrong', `203.0.113.${n}`);
    expect((await signIn(office.client(), PASSWORDS.rosa, '192.0.2.78')).status).toBe(429);
    expect((await signIn(known, PASSWORDS.rosa, '192.0.2.79')).status).toBe(204);
    // What is known of a browser is for one person, and is no way in by itself.
    expect((await signIn(known, 'wrong', '192.0.2.79')).status).toBe(401);
    const other = await known.ask(
      'POST',
      '/api/session',
      { signInName: 'tomas', password: 'wrong' },
      { 'x-forwarded-for': '198.51.100.9' },
    );
    expect(other.status).toBe(401);
  });
});

describe('openings by strangers', () => {
  it('are limited by where they come from, and do not write the ledger without end', async () => {
    const { id } = (await iris.upload(office.roots.projects, 'open.txt', Buffer.from('x'))).body;
    const share = await office.publish(iris, [id]);
    const open = (from: string) =>
      office.client().ask('POST', `/s/${share.token}/open`, { password: null }, { 'x-forwarded-for': from });
    const statuses: number[] = [];
    for (let n = 0; n < 62; n += 1) statuses.push((await open('198.51.100.20')).status);
    expect([statuses[59], statuses[60]]).toEqual([200, 429]);
    for (let n = 0; n < 190; n += 1) expect((await open(`203.0.113.${n}`)).status).toBe(200);
    const lines = await office.db.query<{ kind: string; n: string }[]>(
      `SELECT kind, count(*) AS n FROM ledger_entry WHERE share_id = $1 AND kind LIKE 'share.visited%' GROUP BY kind ORDER BY kind`,
      [share.id],
    );
    expect(lines).toEqual([
      { kind: 'share.visited', n: '199' },
      { kind: 'share.visited-often', n: '1' },
    ]);
    const [{ used }] = (await office.db.query('SELECT visits_used AS used FROM share WHERE id = $1', [share.id])) as [
      { used: number },
    ];
    expect(used).toBe(250);
  });
});
