import { MAY_DOWNLOAD, visitName, type ShareMay } from '@quay/core';
import type { ChangeShare, CopiesMade, FileText, PreviewFacts, ShareSheet, VisitorDoor } from '@quay/contract';
import { execFile } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { PDFDocument } from 'pdf-lib';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Workshop } from '../previews/workshop.js';

// Marked documents are judged by qpdf and poppler, pictures by libvips, archives by Info-ZIP: Debian's programs.
const run = promisify(execFile);
let office: TestOffice;
let iris: Client;
let work: string;
beforeAll(async () => {
  work = mkdtempSync(join(tmpdir(), 'quay-copies-'));
  office = await openOffice();
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office.close({ bytes: true });
  rmSync(work, { recursive: true, force: true });
});

const may = (part: Partial<ShareMay>): ShareMay => ({ ...MAY_DOWNLOAD, ...part });
const VIEW = may({ level: 'view' });
const MARKED = may({ watermark: 'others-plain' });
const ALONE = may({ watermark: 'others-withheld' });
const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const change = (id: string, asked: ChangeShare) => iris.ask<ShareSheet>('PATCH', `/api/shares/${id}`, asked);
const put = async (name: string, bytes: Buffer, parent = office.roots.projects): Promise<string> =>
  (await iris.upload(parent, name, bytes, '&conflict=keep-both')).body.id;
const folder = async (): Promise<string> =>
  (
    await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, {
      name: randomBytes(6).toString('hex'),
    })
  ).body.id;

interface Visit {
  client: Client;
  /** Below the link. */
  ask: (path: string, init?: RequestInit) => Promise<Response>;
  contents: () => Promise<NonNullable<VisitorDoor['contents']>>;
}
async function inside(token: string): Promise<Visit> {
  const client = office.client();
  await client.ask('POST', `/s/${token}/open`, { password: null });
  const ask = (path: string, init?: RequestInit) => client.fetch(`/s/${token}/${path}`, init);
  const contents = async () => ((await (await ask('door')).json()) as VisitorDoor).contents as never;
  return { client, ask, contents };
}
const bytesOf = async (answer: Response) => Buffer.from(await answer.arrayBuffer());
const codeOf = async (answer: Response): Promise<[number, string]> => [
  answer.status,
  ((await answer.json()) as { code: string }).code,
];
/** Asks until the picture has been made. */
async function picture(visit: Visit, path: string): Promise<Response> {
  for (let tries = 0; ; tries += 1) {
    const answer = await visit.ask(path);
    if (answer.status !== 202 || tries > 1200) return answer;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}
/** How many of the pixels of two pictures differ, from 0 to 1. */
async function difference(one: Buffer, other: Buffer): Promise<number> {
  const [a, b] = await Promise.all([one, other].map((bytes) => sharp(bytes).removeAlpha().raw().toBuffer()));
  if (!a || !b || a.length !== b.length) return 1;
  let differ = 0;
  for (let i = 0; i < a.length; i += 3)
    if (
      Math.abs((a[i] as number) - (b[i] as number)) > 12 ||
      Math.abs((a[i + 1] as number) - (b[i + 1] as number)) > 12
    )
      differ += 1;
  return (3 * differ) / a.length;
}

async function document(pages: number, words = 'Mill Lane'): Promise<Buffer> {
  const made = await PDFDocument.create();
  for (let i = 0; i < pages; i += 1) made.addPage([595, 842]).drawText(`${words}-${i}`, { x: 60, y: 700 });
  return Buffer.from(await made.save());
}
const photo = (width = 900, height = 600, orientation = 1) =>
  sharp({ create: { width, height, channels: 3, background: '#7d9a8c' } })
    .withMetadata({ orientation })
    .jpeg()
    .toBuffer();
function kept(name: string, bytes: Buffer): string {
  const path = join(work, name);
  writeFileSync(path, bytes);
  return path;
}
const textOf = async (path: string) => (await run('pdftotext', [path, '-'])).stdout;
/** The moment that the office of the tests stands at, as a mark writes it. */
const isMarked = (text: string, who: string) => text.includes(who) && text.includes('Saltmarsh');

describe('to look at only', () => {
  it('no byte of a file leaves, by no way there is', async () => {
    const id = await folder();
    const text = await put('notes.txt', Buffer.from('the lowest bid is 14,200'), id);
    const plan = await put('plan.pdf', await document(1), id);
    const share = await office.publish(iris, [id], { may: VIEW });
    const visit = await inside(share.token);
    const { files, archiveBytes, markedFor } = await visit.contents();
    expect(files.map((f) => [f.handing, f.sha256])).toEqual(Array(2).fill(['withheld', '']));
    expect([archiveBytes, markedFor]).toEqual([null, expect.stringMatching(/^Visit [0-9A-F]{6}$/)]);
    for (const path of [`files/${text}`, `files/${text}?show=1`, `files/${plan}`, 'all.zip', `files/${text}/text`])
      expect(await codeOf(await visit.ask(path)), path).toEqual([403, 'share.look-only']);
    expect((await visit.ask(`files/${plan}`, { headers: { Range: 'bytes=0-9' } })).status).toBe(403);
    expect(await (await visit.ask('copies', { method: 'POST' })).json()).toEqual({ made: 0, of: 0 });
  });

  it('pages and pictures are shown, each marked for that visit, and to people of the office as they are', async () => {
    const id = await folder();
    const plan = await put('plan.pdf', await document(2), id);
    const image = await put('photo.jpg', await photo(1200, 800), id);
    const share = await office.publish(iris, [id], { may: VIEW });
    const [one, other] = [await inside(share.token), await inside(share.token)];
    for (const path of [`${plan}/pages/2`, `${image}/large`, `${image}/thumb`, `${plan}/thumb`]) {
      const shown = await bytesOf(await picture(one, `files/${path}`));
      const theirs = await bytesOf(await picture(other, `files/${path}`));
      const plain = await bytesOf(await iris.fetch(`/api/files/${path}`));
      expect((await sharp(shown).metadata()).width, path).toBe((await sharp(plain).metadata()).width);
      expect(await difference(shown, plain), path).toBeGreaterThan(0.01);
      // What names the visit is a small part of it.
      expect(shown.equals(theirs), path).toBe(false);
    }
    const facts = (await (await one.ask(`files/${plan}/look`)).json()) as PreviewFacts;
    expect(facts).toEqual({ kind: 'pages', pages: 2 });
    // The same again is not made again, and is known to a browser that has it.
    const again = await picture(one, `files/${plan}/pages/2`);
    const etag = again.headers.get('etag') as string;
    const known = (await iris.ask<{ sha256: string }>('GET', `/api/nodes/${plan}`)).body.sha256;
    expect(etag).not.toContain(Buffer.from(known, 'hex').toString('base64url'));
    expect((await one.ask(`files/${plan}/pages/2`, { headers: { 'If-None-Match': etag } })).status).toBe(304);
    expect((await other.ask(`files/${plan}/pages/2`, { headers: { 'If-None-Match': etag } })).status).toBe(200);
    expect(await codeOf(await picture(one, `files/${plan}/pages/3`))).toEqual([404, 'preview.none']);
    expect(await codeOf(await one.ask(`files/${plan}/pages/0`))).toEqual([404, 'not-found']);
  });

  it('texts and tables are shown as pictures of their pages, marked, and never as text', async () => {
    const id = await folder();
    const lines = Array.from({ length: 130 }, (_, n) => `Bid ${n}\tof Saltmarsh\t${1000 + n}`);
    const notes = await put('notes.txt', Buffer.from(lines.join('\n')), id);
    const table = await put('levels.csv', Buffer.from('point,height\nA,1.204\n'), id);
    const share = await office.publish(iris, [id], { may: VIEW });
    const [one, other] = [await inside(share.token), await inside(share.token)];
    const facts = async (node: string) => (await (await one.ask(`files/${node}/look`)).json()) as PreviewFacts;
    expect([await facts(notes), await facts(table)]).toEqual([
      { kind: 'pages', pages: 3 },
      { kind: 'pages', pages: 1 },
    ]);
    const first = await one.ask(`files/${notes}/pages/1`);
    expect([first.status, first.headers.get('content-type')]).toEqual([200, 'image/webp']);
    const shown = await bytesOf(first);
    expect(await sharp(shown).metadata()).toMatchObject({ format: 'webp', width: 1272, height: 1800 });
    expect(shown.includes('Saltmarsh')).toBe(false);
    // Each page, and each visit, has its own; the last page is nearly empty, and the first is not.
    const ink = async (bytes: Buffer) => (await sharp(bytes).greyscale().stats()).channels[0]?.mean ?? 0;
    const last = await bytesOf(await one.ask(`files/${notes}/pages/3`));
    expect(await ink(last)).toBeGreaterThan((await ink(shown)) + 2);
    const theirs = await bytesOf(await other.ask(`files/${notes}/pages/1`));
    expect(await difference(shown, theirs)).toBeGreaterThan(0);
    expect((await bytesOf(await one.ask(`files/${notes}/pages/1`))).equals(shown)).toBe(true);
    expect((await one.ask(`files/${table}/large`)).status).toBe(200);
    for (const path of [`${notes}/pages/4`, `${notes}/thumb`, `${notes}/pages/0`])
      expect((await one.ask(`files/${path}`)).status, path).toBe(404);
    for (const node of [notes, table])
      expect(await codeOf(await one.ask(`files/${node}/text`))).toEqual([403, 'share.look-only']);
    // What is no text is shown as nothing; what is given is shown as it is.
    const no = await put('odd.txt', Buffer.from([0, 1, 2, 0]), id);
    expect(await codeOf(await one.ask(`files/${no}/pages/1`))).toEqual([404, 'preview.none']);
    await change(share.id, { may: MAY_DOWNLOAD });
    expect(await facts(notes)).toEqual({ kind: 'text', pages: null });
    expect(await codeOf(await one.ask(`files/${notes}/pages/1`))).toEqual([404, 'preview.none']);
    // Withheld beside what is marked, it is shown marked.
    await change(share.id, { may: ALONE });
    expect((await one.ask(`files/${notes}/pages/2`)).status).toBe(200);
    const stranger = await office.client().fetch(`/s/${share.token}/files/${notes}/pages/1`);
    expect(stranger.status).toBe(401);
  });

  it('holds for the share that it was said of, and while the visit lasts', async () => {
    const image = await put('elsewhere.jpg', await photo());
    const mine = await put('mine.jpg', await photo(800, 700));
    const share = await office.publish(iris, [mine], { may: VIEW });
    const visit = await inside(share.token);
    expect((await picture(visit, `files/${mine}/large`)).status).toBe(200);
    for (const path of [`files/${image}/large`, `files/${image}/look`, `files/${image}/text`, `files/${image}`])
      expect(await codeOf(await visit.ask(path)), path).toEqual([404, 'share.no-such-file']);
    const stranger = await office.client().fetch(`/s/${share.token}/files/${mine}/large`);
    expect(await codeOf(stranger)).toEqual([401, 'share.not-opened']);
    await change(share.id, { withdrawn: true });
    expect((await visit.ask(`files/${mine}/large`)).status).toBe(410);
  });

  it('begins for whoever is inside at once, and so ends', async () => {
    const plan = await put('later.pdf', await document(1));
    const share = await office.publish(iris, [plan]);
    const visit = await inside(share.token);
    expect((await visit.ask(`files/${plan}`)).status).toBe(200);
    expect((await change(share.id, { may: VIEW })).status).toBe(200);
    expect((await visit.ask(`files/${plan}`)).status).toBe(403);
    await change(share.id, { may: MAY_DOWNLOAD });
    expect((await visit.ask(`files/${plan}`)).status).toBe(200);
  });
});

describe('copies that are marked', () => {
  it('of a document say who took it, page by page, and are sound to other programs', async () => {
    const original = await document(3);
    const plan = await put('tender.pdf', original);
    const share = await office.publish(iris, [plan], { may: MARKED });
    const visit = await inside(share.token);
    const { files, markedFor } = await visit.contents();
    expect([files[0]?.handing, markedFor]).toEqual(['marked', expect.stringMatching(/^Visit /)]);
    const copy = await bytesOf(await visit.ask(`files/${plan}`));
    const path = kept('tender.pdf', copy);
    await run('qpdf', ['--check', path]);
    const pages = (await textOf(path)).split('\f').slice(0, 3);
    for (const [i, page] of pages.entries())
      for (const words of [`Lane-${i}`, markedFor, 'Saltmarsh']) expect(page).toContain(words);
    // The same file again, a piece of it, and that of somebody else.
    const answer = await visit.ask(`files/${plan}`, { headers: { Range: 'bytes=100-199' } });
    expect([answer.status, (await bytesOf(answer)).equals(copy.subarray(100, 200))]).toEqual([206, true]);
    expect((await bytesOf(await visit.ask(`files/${plan}`))).equals(copy)).toBe(true);
    expect((await bytesOf(await (await inside(share.token)).ask(`files/${plan}`))).equals(copy)).toBe(false);
    expect(sha(await bytesOf(await iris.fetch(`/api/files/${plan}/content`)))).toBe(sha(original));
  });

  it('name whoever proved an address or signed in', async () => {
    const tomas = await office.signedIn('tomas');
    const [me] = await office.db.query<[{ id: string; name: string }]>(
      `SELECT id, name FROM person WHERE sign_in_name = 'tomas'`,
    );
    const plan = await put('members.pdf', await document(1));
    const share = await office.publish(iris, [plan], {
      may: MARKED,
      audience: { kind: 'members', listed: [], blocked: [], members: [{ kind: 'person', id: me.id }] },
    });
    await tomas.ask('POST', `/s/${share.token}/open`, { password: null });
    const path = kept('members.pdf', await bytesOf(await tomas.fetch(`/s/${share.token}/files/${plan}`)));
    expect(isMarked(await textOf(path), me.name)).toBe(true);
  });

  it('of documents as others write them: linearized, with object streams, turned, without a mark on what is not shown', async () => {
    const turned = await PDFDocument.load(await document(4));
    turned.getPages().forEach((page, i) => page.setRotation({ type: 'degrees', angle: 90 * i } as never));
    const plain = kept('plain.pdf', Buffer.from(await turned.save()));
    const made = join(work, 'linear.pdf');
    await run('qpdf', ['--linearize', '--object-streams=generate', plain, made]);
    const plan = await put('linear.pdf', readFileSync(made));
    const visit = await inside((await office.publish(iris, [plan], { may: MARKED })).token);
    const copy = kept('linear-marked.pdf', await bytesOf(await visit.ask(`files/${plan}`)));
    await run('qpdf', ['--check', copy]);
    // On each page, however it is turned, the mark covers a part of what is seen.
    for (const page of ['1', '2', '3', '4']) {
      const drawn = async (of: string) => {
        const args = ['-png', '-r', '40', '-f', page, '-l', page, '-singlefile', of, join(work, 'drawn')];
        await run('pdftoppm', args);
        return readFileSync(join(work, 'drawn.png'));
      };
      expect(await difference(await drawn(copy), await drawn(plain)), page).toBeGreaterThan(0.03);
    }
  });

  it('of pictures stay what they were, turned as the camera says', async () => {
    const kinds = {
      'a.jpg': await photo(1200, 800, 6),
      'b.png': await sharp(await photo())
        .png()
        .toBuffer(),
      'c.webp': await sharp(await photo())
        .webp()
        .toBuffer(),
      'd.tif': await sharp(await photo())
        .tiff()
        .toBuffer(),
      'small.png': await sharp(await photo(20, 10))
        .png()
        .toBuffer(),
    };
    const id = await folder();
    const ids = new Map<string, string>();
    for (const [name, bytes] of Object.entries(kinds)) ids.set(name, await put(name, bytes, id));
    const visit = await inside((await office.publish(iris, [id], { may: ALONE })).token);
    for (const [name, bytes] of Object.entries(kinds)) {
      const copy = await bytesOf(await visit.ask(`files/${ids.get(name)}`));
      const upright = await sharp(bytes).autoOrient().png().toBuffer();
      const [is, was] = [await sharp(copy).metadata(), await sharp(upright).metadata()];
      expect([is.format, is.width, is.height], name).toEqual([
        (await sharp(bytes).metadata()).format,
        was.width,
        was.height,
      ]);
      expect(await difference(await sharp(copy).png().toBuffer(), upright), name).toBeGreaterThan(0.005);
    }
  });

  it('other kinds go as they are, or not at all', async () => {
    const notes = await put('notes.csv', Buffer.from('a,b\n1,2\n'));
    const [plain, alone] = await Promise.all([
      office.publish(iris, [notes], { may: MARKED }),
      office.publish(iris, [notes], { may: ALONE }),
    ]);
    const taken = await (await inside(plain.token)).ask(`files/${notes}`);
    expect([taken.status, await taken.text()]).toEqual([200, 'a,b\n1,2\n']);
    const visit = await inside(alone.token);
    expect((await visit.contents()).files[0]?.handing).toBe('withheld');
    expect(await codeOf(await visit.ask(`files/${notes}`))).toEqual([403, 'share.cannot-be-marked']);
    expect(await codeOf(await visit.ask(`files/${notes}/text`))).toEqual([403, 'share.look-only']);
    const text = await (await inside(plain.token)).ask(`files/${notes}/text`);
    expect(((await text.json()) as FileText).text).toBe('a,b\n1,2\n');
  });

  it('are of the kind that the file is, also where the same bytes bear the ending of another', async () => {
    const at = await folder();
    const photo = await sharp({ create: { width: 400, height: 300, channels: 3, background: '#7a8' } })
      .jpeg()
      .toBuffer();
    const [wrong, right] = [await put('photo.pdf', photo, at), await put('photo.jpg', photo, at)];
    const visit = await inside((await office.publish(iris, [at], { may: MARKED })).token);
    expect(await codeOf(await visit.ask(`files/${wrong}`))).toEqual([403, 'share.cannot-be-marked']);
    expect((await visit.ask(`files/${right}`)).status).toBe(200);
    expect((await visit.contents()).files.map((f) => [f.path, f.handing])).toEqual(
      expect.arrayContaining([
        [expect.stringMatching(/photo.pdf$/), 'withheld'],
        [expect.stringMatching(/photo.jpg$/), 'marked'],
      ]),
    );
  });

  it('are not made of what cannot be read, and that does not leave unmarked', async () => {
    const locked = join(work, 'locked.pdf');
    await run('qpdf', ['--encrypt', '', 'owner', '256', '--', kept('open.pdf', await document(1)), locked]);
    const id = await folder();
    const broken = {
      'broken.pdf': Buffer.from('%PDF-1.7\nnothing of a document'),
      'locked.pdf': readFileSync(locked),
      'broken.jpg': (await photo()).subarray(0, 300),
      // A picture under the name of a document.
      'really.pdf': await photo(),
    };
    for (const [name, bytes] of Object.entries(broken)) await put(name, bytes, id);
    const visit = await inside((await office.publish(iris, [id], { may: MARKED })).token);
    for (const { id: file, path } of (await visit.contents()).files)
      expect(await codeOf(await visit.ask(`files/${file}`)), path).toEqual([403, 'share.cannot-be-marked']);
    // What is known of them from then on.
    expect((await visit.contents()).files.map((f) => f.handing)).toEqual(Array(4).fill('withheld'));
  });
});

describe('all as one archive, marked', () => {
  it('once the copies are made, of exactly the size that was said', async () => {
    const id = await folder();
    const plan = await put('plan.pdf', await document(2), id);
    await put('broken.pdf', Buffer.from('%PDF-1.7\nno'), id);
    await put('photo.jpg', await photo(), id);
    await put('notes.txt', Buffer.from('as it is'), id);
    const visit = await inside((await office.publish(iris, [id], { may: MARKED })).token);
    expect((await visit.contents()).copies).toEqual({ made: 0, of: 3 });
    expect(await codeOf(await visit.ask('all.zip'))).toEqual([409, 'share.copies-missing']);
    let made: CopiesMade = { made: 0, of: 1 };
    while (made.made < made.of) made = (await (await visit.ask('copies', { method: 'POST' })).json()) as CopiesMade;
    expect(made).toEqual({ made: 3, of: 3 });
    const { archiveBytes, files, markedFor } = await visit.contents();
    const answer = await visit.ask('all.zip');
    const zip = await bytesOf(answer);
    expect([Number(answer.headers.get('content-length')), zip.length]).toEqual([archiveBytes, archiveBytes]);
    const path = kept('all.zip', zip);
    await run('unzip', ['-tq', path]);
    const { stdout } = await run('unzip', ['-Z1', path]);
    expect(stdout.match(/[a-z]+\.(pdf|jpg|txt)/g)?.sort()).toEqual(['notes.txt', 'photo.jpg', 'plan.pdf']);
    const within = files.find((f) => f.id === plan)?.path as string;
    const { stdout: document_ } = await run('unzip', ['-p', path, within], { encoding: 'buffer' });
    expect(isMarked(await textOf(kept('within.pdf', document_)), markedFor as string)).toBe(true);
  });
});

it('a visit is named by the end of its id', async () => {
  const plan = await put('named.pdf', await document(1));
  const share = await office.publish(iris, [plan], { may: MARKED });
  const { markedFor } = await (await inside(share.token)).contents();
  const [row] = await office.db.query<{ id: string }[]>('SELECT id FROM visit WHERE share_id = $1', [share.id]);
  expect(markedFor).toBe(visitName(row?.id as string));
});

describe('while a copy is being made', () => {
  it('the share may be withdrawn, or be to look at only from then on: nothing is sent then', async () => {
    const workshop = office.app.get(Workshop);
    const make = workshop.make.bind(workshop);
    for (const [asked, path, status] of [
      [{ withdrawn: true }, '', 410],
      [{ may: VIEW }, '', 403],
      [{ withdrawn: true }, '/large', 410],
    ] as const) {
      const image = await put('meanwhile.jpg', await photo(700, 500 + status));
      const share = await office.publish(iris, [image], { may: MARKED });
      const visit = await inside(share.token);
      expect((await picture({ ...visit, ask: (p) => iris.fetch(p) }, `/api/files/${image}/large`)).status).toBe(200);
      const spy = vi.spyOn(workshop, 'make').mockImplementation(async (...args) => {
        await change(share.id, asked);
        return make(...args);
      });
      expect((await visit.ask(`files/${image}${path}`)).status, JSON.stringify([asked, path])).toBe(status);
      expect(spy).toHaveBeenCalled();
      spy.mockRestore();
    }
  });
});

describe('what a stranger may have made', () => {
  it('is made once, however many ask at once', async () => {
    const plan = await put('once.pdf', await document(20));
    const visit = await inside((await office.publish(iris, [plan], { may: MARKED })).token);
    const all = await Promise.all(
      Array.from({ length: 8 }, async () => sha(await bytesOf(await visit.ask(`files/${plan}`)))),
    );
    expect(new Set(all).size).toBe(1);
  });

  it('may be large: 2,000 pages, and 200 megapixels', async () => {
    const id = await folder();
    const pages = await put('pages.pdf', await document(2000), id);
    const pixels = await sharp({ create: { width: 20_000, height: 10_000, channels: 3, background: '#456' } })
      .jpeg({ quality: 40 })
      .toBuffer();
    const image = await put('survey.jpg', pixels, id);
    const visit = await inside((await office.publish(iris, [id], { may: ALONE })).token);
    const path = kept('pages.pdf', await bytesOf(await visit.ask(`files/${pages}`)));
    expect((await run('pdfinfo', [path])).stdout).toMatch(/Pages:\s+2000/);
    const copy = await sharp(await bytesOf(await visit.ask(`files/${image}`))).metadata();
    expect([copy.width, copy.height]).toEqual([20_000, 10_000]);
  });

  it('goes when the visit is over, with its bytes', async () => {
    const plan = await put('passing.pdf', await document(1));
    const share = await office.publish(iris, [plan], { may: MARKED });
    const visit = await inside(share.token);
    const copy = sha(await bytesOf(await visit.ask(`files/${plan}`)));
    const there = async () =>
      (await office.db.query<unknown[]>('SELECT 1 FROM blob WHERE sha256 = $1', [Buffer.from(copy, 'hex')])).length;
    await office.app.get(Housekeeping).tidy();
    expect(await there()).toBe(1);
    await change(share.id, { window: { opensAt: null, closesAt: new Date(office.clock.now() - 1000).toISOString() } });
    office.clock.advance(13 * 3600 * 1000);
    await office.app.get(Housekeeping).tidy();
    expect(await there()).toBe(0);
    expect((await office.db.query<unknown[]>('SELECT 1 FROM marked_copy')).length).toBe(0);
  });
});
