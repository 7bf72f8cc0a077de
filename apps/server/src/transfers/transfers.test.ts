import { execFile, execFileSync, spawnSync } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readdirSync, readFileSync, rmSync, unlinkSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { MOST_CONTENTS, type ContentFile } from '../stores/branch.queries.js';
import { archiveFault } from './download.service.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let folder = '';
const out = mkdtempSync(join(tmpdir(), 'transfers-'));
const large = randomBytes(3_000_000);
let largeId = '';

beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  folder = (
    await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Mill Lane' })
  ).body.id;
  largeId = (await iris.upload(folder, 'Scan 14.las', large)).body.id;
});
afterAll(async () => {
  await office.close({ broken: 'a blob is removed to see what is told' });
  rmSync(out, { recursive: true, force: true });
});

/** Debian's curl, as the signed-in person; returns what it wrote to its standard output. */
async function curl(path: string, ...args: string[]): Promise<string> {
  return (
    await promisify(execFile)('curl', [
      '-s',
      '-S',
      '--max-time',
      '20',
      '-H',
      `Cookie: ${iris.cookieHeader('/')}`,
      ...args,
      office.origin + path,
    ])
  ).stdout;
}
const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const temporaryFiles = () => readdirSync(join(office.config.blobRoot, 'tmp'));

describe('upload', () => {
  it('keeps the bytes: sha256sum of what curl brings back agrees', async () => {
    await curl(`/api/files/${largeId}/content`, '-o', join(out, 'back'));
    expect(
      execFileSync('sha256sum', [join(out, 'back')])
        .toString()
        .split(' ')[0],
    ).toBe(sha(large));
  });
  it('takes an empty file and one of unknown length (curl, chunked)', async () => {
    writeFileSync(join(out, 'empty'), '');
    expect(await curl(`/api/folders/${folder}/files?name=empty.txt`, '-T', join(out, 'empty'))).toContain(
      '"sizeBytes":0',
    );
    writeFileSync(join(out, 'some'), 'some bytes');
    expect(
      await curl(
        `/api/folders/${folder}/files?name=chunked.txt`,
        '-T',
        join(out, 'some'),
        '-H',
        'Transfer-Encoding: chunked',
      ),
    ).toContain(sha(Buffer.from('some bytes')));
  });
  it('a file whose type says JSON is still a file', async () => {
    const response = await iris.fetch(`/api/folders/${folder}/files?name=data.json`, {
      method: 'PUT',
      body: '{not json',
      headers: { 'content-type': 'application/json' },
    });
    expect(response.status).toBe(201);
  });
  it.each(['/files/', '/FILES'])('a file whose type says JSON is still a file at %s', async (end) => {
    const id = folder;
    const response = await iris.fetch(`/api/folders/${id}${end}?name=${end.length}.json`, {
      method: 'PUT',
      body: '{"a": 1}',
      headers: { 'content-type': 'application/json' },
    });
    expect([response.status, ((await response.json()) as { sizeBytes: number }).sizeBytes]).toEqual([201, 8]);
  });
  it('a taken name is refused, kept as a version, or numbered, as asked', async () => {
    await iris.upload(folder, 'plan.pdf', Buffer.from('one'));
    expect((await iris.upload(folder, 'PLAN.pdf', Buffer.from('two'))).body.code).toBe('name.taken');
    expect((await iris.upload(folder, 'plan.pdf', Buffer.from('two'), '&conflict=version')).body).toMatchObject({
      name: 'plan.pdf',
      version: 2,
    });
    expect((await iris.upload(folder, 'plan.pdf', Buffer.from('three'), '&conflict=keep-both')).body).toMatchObject({
      name: 'plan (2).pdf',
      version: 1,
    });
    expect((await iris.upload(folder, 'x.txt', Buffer.from('x'), '&conflict=destroy')).status).toBe(400);
  });
  it('the same name from many at once: all are kept', async () => {
    const answers = await Promise.all(
      Array.from({ length: 6 }, (_, i) =>
        iris.upload(folder, 'photo.jpg', Buffer.from(`photo ${i}`), '&conflict=keep-both'),
      ),
    );
    expect(answers.map((a) => a.body.name).sort()).toEqual([
      'photo (2).jpg',
      'photo (3).jpg',
      'photo (4).jpg',
      'photo (5).jpg',
      'photo (6).jpg',
      'photo.jpg',
    ]);
  });
  it('cut in the middle, it leaves nothing: no file, no entry, no temporary bytes', async () => {
    await new Promise<void>((resolve) => {
      const req = request(`${office.origin}/api/folders/${folder}/files?name=half.bin`, {
        method: 'PUT',
        headers: { cookie: iris.cookieHeader('/'), 'content-length': 5_000_000 },
      });
      req.on('error', () => resolve());
      req.write(randomBytes(1_000_000), () => setTimeout(() => req.destroy(), 100));
    });
    for (let i = 0; i < 1200 && temporaryFiles().length; i += 1) await new Promise((r) => setTimeout(r, 50));
    expect(temporaryFiles()).toEqual([]);
    expect(
      (await iris.ask<{ items: { name: string }[] }>('GET', `/api/folders/${folder}`)).body.items.map((i) => i.name),
    ).not.toContain('half.bin');
  });
  it('larger than the free space, it is refused before a byte is kept', async () => {
    const small = await openOffice({ keepFreeBytes: Number.MAX_SAFE_INTEGER });
    const by = await small.signedIn('iris');
    const answer = await by.upload(small.roots.projects, 'large.bin', Buffer.alloc(10));
    expect([answer.status, answer.body.code]).toEqual([507, 'disk.full']);
    await small.close();
  });
});

describe('download in ranges (RFC 9110 §14, asked by curl)', () => {
  const part = (range: string, ...more: string[]) =>
    curl(
      `/api/files/${largeId}/content`,
      '-o',
      join(out, 'part'),
      '-w',
      '%{http_code} %{size_download} %header{content-range}',
      '-H',
      `Range: ${range}`,
      ...more,
    );
  it('first, middle, last and open ranges are the right bytes', async () => {
    for (const [range, from, to] of [
      ['bytes=0-0', 0, 1],
      ['bytes=1000-2999', 1000, 3000],
      ['bytes=2500000-', 2_500_000, 3_000_000],
      ['bytes=-500', 2_999_500, 3_000_000],
      ['bytes=2999999-9999999', 2_999_999, 3_000_000],
    ] as const) {
      expect(await part(range)).toBe(`206 ${to - from} bytes ${from}-${to - 1}/3000000`);
      expect(readFileSync(join(out, 'part')).equals(large.subarray(from, to))).toBe(true);
    }
  });
  it('beyond the end it is 416 with the size, and a problem', async () => {
    expect(await part('bytes=3000000-')).toMatch(/^416 \d+ bytes \*\/3000000$/);
    expect(JSON.parse(readFileSync(join(out, 'part'), 'utf8'))).toMatchObject({
      code: 'range.beyond-end',
      status: 416,
    });
  });
  it('a suffix longer than the whole is the whole (§14.1.2)', async () => {
    const { id } = (await iris.upload(folder, 'ten.txt', Buffer.from('0123456789'))).body;
    const answer = await iris.fetch(`/api/files/${id}/content`, { headers: { range: 'bytes=-100' } });
    expect([answer.status, answer.headers.get('content-range'), await answer.text()]).toEqual([
      206,
      'bytes 0-9/10',
      '0123456789',
    ]);
  });
  it.each([
    'run.ecma',
    'run.mjs',
    'page.xhtml',
    'page.svgz',
    'app.wasm',
    'style.css',
    'sheet.xsl',
    'data.jsonld',
    'flash.swf',
  ])('%s goes out as plain bytes, whatever its name says', async (name) => {
    const { id } = (await iris.upload(folder, name, Buffer.from('x'))).body;
    expect((await iris.fetch(`/api/files/${id}/content`)).headers.get('content-type')).toBe('application/octet-stream');
  });
  it('another unit and several ranges are answered whole; what is no range at all is refused (both as §14.2 allows)', async () => {
    expect(await part('bytes=abc')).toMatch(/^416/);
    for (const range of ['lines=1-2', 'bytes=0-1,5-6']) expect(await part(range)).toBe('200 3000000 ');
  });
  it('resumes only the same bytes (If-Range, §13.1.5)', async () => {
    const etag = `"${createHash('sha256').update(large).digest('base64url')}"`;
    expect(await part('bytes=10-19', '-H', `If-Range: ${etag}`)).toContain('206 10');
    expect(await part('bytes=10-19', '-H', 'If-Range: "another"')).toContain('200 3000000');
  });
  it('a broken-off download is resumed by curl to the same bytes', async () => {
    writeFileSync(join(out, 'resumed'), large.subarray(0, 1_234_567));
    await curl(`/api/files/${largeId}/content`, '-C', '-', '-o', join(out, 'resumed'));
    expect(readFileSync(join(out, 'resumed')).equals(large)).toBe(true);
  });
});

describe('what a file holds cannot act in our origin', () => {
  it.each(['page.html', 'drawing.svg', 'script.js', 'feed.xml'])(
    '%s is sent as plain bytes to be saved, in a sandbox',
    async (name) => {
      const { body } = await iris.upload(folder, name, Buffer.from('<script>alert(1)</script>'));
      const response = await iris.fetch(`/api/files/${body.id}/content?show=1`);
      expect(response.headers.get('content-type')).toBe('application/octet-stream');
      expect(response.headers.get('content-disposition')).toMatch(/^attachment; filename="/);
      expect(response.headers.get('content-security-policy')).toContain('sandbox');
      expect(response.headers.get('x-content-type-options')).toBe('nosniff');
    },
  );
  it('names of every script are announced (RFC 6266 and 8187)', async () => {
    const { body } = await iris.upload(folder, '図面 é.txt', Buffer.from('x'));
    expect((await iris.fetch(`/api/files/${body.id}/content`)).headers.get('content-disposition')).toContain(
      "filename*=UTF-8''%E5%9B%B3%E9%9D%A2%20%C3%A9.txt",
    );
  });
});

describe('several as one archive', () => {
  it('has exactly the announced size, passes unzip -t and 7z t, and holds the same bytes', async () => {
    const path = join(out, 'all.zip');
    const announced = await curl(
      `/api/archive?ids=${folder}`,
      '-I',
      '-X',
      'GET',
      '-o',
      '/dev/null',
      '-w',
      '%header{content-length}',
    );
    expect(await curl(`/api/archive?ids=${folder}`, '-o', path, '-w', '%{size_download}')).toBe(announced);
    expect(execFileSync('unzip', ['-t', path]).toString()).toContain('No errors detected');
    expect(spawnSync('7z', ['t', path]).stdout.toString()).toContain('Everything is Ok');
    expect(sha(execFileSync('unzip', ['-p', path, 'Mill Lane/Scan 14.las'], { maxBuffer: 1e7 }))).toBe(sha(large));
  });
  it('is resumed from any byte', async () => {
    const whole = readFileSync(join(out, 'all.zip'));
    for (const from of [1, 40, 100_000, whole.length - 30]) {
      await curl(`/api/archive?ids=${folder}`, '-o', join(out, 'rest'), '-H', `Range: bytes=${from}-`);
      expect(readFileSync(join(out, 'rest')).equals(whole.subarray(from))).toBe(true);
    }
  });
  it('more than an archive holds is told of, never left out in silence', () => {
    const found = Array.from({ length: MOST_CONTENTS + 1 }, (_, i) => ({ path: `f ${i}` }) as ContentFile);
    expect(archiveFault(found)).toMatchObject({ code: 'archive.too-many' });
    expect(archiveFault(found.slice(1))).toBeNull();
  });
  it('items of the same name from different folders are both in it', async () => {
    const { body: other } = await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, {
      name: 'Other',
    });
    const [a, b] = [
      await iris.upload(office.roots.projects, 'same.txt', Buffer.from('a')),
      await iris.upload(other.id, 'same.txt', Buffer.from('b')),
    ];
    await curl(`/api/archive?ids=${a.body.id}&ids=${b.body.id}`, '-o', join(out, 'same.zip'));
    expect(
      [
        execFileSync('unzip', ['-p', join(out, 'same.zip'), 'same.txt']).toString(),
        execFileSync('unzip', ['-p', join(out, 'same.zip'), 'same (2).txt']).toString(),
      ].sort(),
    ).toEqual(['a', 'b']);
  });
});

describe('a blob that has vanished', () => {
  it('is told as such, never as a short or empty file', async () => {
    const { body } = await iris.upload(folder, 'vanishing.txt', Buffer.from('soon gone'));
    unlinkSync(join(office.config.blobRoot, body.sha256.slice(0, 2), body.sha256.slice(2, 4), body.sha256));
    const answer = await iris.ask('GET', `/api/files/${body.id}/content`);
    expect([answer.status, answer.body.code]).toEqual([500, 'blob.missing']);
    await expect(curl(`/api/archive?ids=${body.id}`, '-o', join(out, 'broken.zip'))).rejects.toThrow();
  });
});
