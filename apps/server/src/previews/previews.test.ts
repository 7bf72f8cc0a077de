import type { FileText, NodeInfo, PreviewFacts, VersionList } from '@quay/contract';
import { PDFDocument } from 'pdf-lib';
import { createHash, randomBytes } from 'node:crypto';
import { execFile } from 'node:child_process';
import { resolve } from 'node:path';
import { promisify } from 'node:util';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { PreviewsService } from './previews.service.js';
import { walls } from './sandbox.js';

let office: TestOffice;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  tomas = await office.signedIn('tomas');
});
afterAll(() => office.close());

const put = async (name: string, bytes: Buffer) => (await tomas.upload(office.roots.tomas, name, bytes)).body.id;
/** Asks until the picture has been made. */
async function picture(id: string, what: string): Promise<Response> {
  for (let tries = 0; ; tries += 1) {
    const answer = await tomas.fetch(`/api/files/${id}/${what}`);
    if (answer.status !== 202 || tries > 1200) return answer;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}
const sizeOf = async (answer: Response) => {
  const { width, height, format } = await sharp(Buffer.from(await answer.arrayBuffer())).metadata();
  return { width, height, format };
};

// The pictures are judged by sharp (libvips), the documents made by pdf-lib and read by Debian's poppler.
describe('pictures of files', () => {
  it('of an image: small and large, turned as the camera says (EXIF orientation 6), the original untouched', async () => {
    const bytes = await sharp({ create: { width: 2400, height: 1200, channels: 3, background: '#486' } })
      .withMetadata({ orientation: 6 })
      .jpeg()
      .toBuffer();
    const id = await put('photo.jpg', bytes);
    expect(await sizeOf(await picture(id, 'thumb'))).toEqual({ width: 160, height: 320, format: 'webp' });
    expect(await sizeOf(await picture(id, 'large'))).toEqual({ width: 900, height: 1800, format: 'webp' });
    expect(Buffer.from(await (await tomas.fetch(`/api/files/${id}/content`)).arrayBuffer()).equals(bytes)).toBe(true);
  });
  it('of a document: each page, and how many', async () => {
    const document = await PDFDocument.create();
    for (const width of [600, 300]) document.addPage([width, 300]).drawText('page', { x: 20, y: 20 });
    const id = await put('plan.pdf', Buffer.from(await document.save()));
    expect((await sizeOf(await picture(id, 'pages/1'))).width).toBe(1800);
    expect(await sizeOf(await picture(id, 'pages/2'))).toMatchObject({ width: 1800, height: 1800 });
    expect((await tomas.ask<PreviewFacts>('GET', `/api/files/${id}/preview`)).body).toEqual({
      kind: 'pages',
      pages: 2,
    });
    expect(((await (await picture(id, 'pages/3')).json()) as { code: string }).code).toBe('preview.none');
  });
  it('an image that names files of others shows none of them, however its place in the store was chosen', async () => {
    const rosa = await office.signedIn('rosa');
    const red = await sharp({ create: { width: 40, height: 40, channels: 3, background: '#f00' } })
      .png()
      .toBuffer();
    const secret = (await rosa.upload(office.roots.rosa, 'secret.png', red)).body.sha256;
    const words = (await rosa.upload(office.roots.rosa, 'secret.txt', Buffer.from('<tspan>MMMMMM</tspan>'))).body
      .sha256;
    for (const [name, target, inside] of [
      ['image.svg', secret, (ref: string) => `<image href="${ref}" width="40" height="40"/>`],
      [
        'include.svg',
        words,
        (ref: string) => `<text y="30" font-size="30"><xi:include href="${ref}" parse="xml"/></text>`,
      ],
      [
        'text.svg',
        words,
        (ref: string) => `<text y="30" font-size="30"><xi:include href="${ref}" parse="text"/></text>`,
      ],
    ] as const) {
      // Only files in the folder of the image, or below, can be named: the image is varied until it lies there.
      const svg = (n: number) =>
        Buffer.from(
          `<svg xmlns="http://www.w3.org/2000/svg" xmlns:xi="http://www.w3.org/2001/XInclude" width="40" height="40"><rect width="40" height="40" fill="#fff"/>${inside(target)}<!-- ${n} --></svg>`,
        );
      let n = 0;
      while (createHash('sha256').update(svg(n)).digest('hex').slice(0, 4) !== target.slice(0, 4)) n += 1;
      const shown = Buffer.from(await (await picture(await put(name, svg(n)), 'large')).arrayBuffer());
      const { channels } = await sharp(shown).stats();
      expect(Math.min(...channels.slice(0, 3).map((c) => c.min)), name).toBeGreaterThan(240);
    }
  });
  it('the program that makes pictures sees no file of the office, and no network', async () => {
    const inner = `
      const { readdirSync } = require('node:fs');
      const { networkInterfaces } = require('node:os');
      const seen = (path) => { try { return readdirSync(path).length; } catch { return null; } };
      console.log(JSON.stringify({ blobs: seen(process.argv[1]), root: seen('/root'), etc: seen('/etc/ssl'), nets: Object.keys(networkInterfaces()).length }));`;
    const { stdout } = await promisify(execFile)('bwrap', [
      ...walls(resolve(import.meta.dirname, '../../dist/previews/worker.js')),
      process.execPath,
      '-e',
      inner,
      office.config.blobRoot,
    ]);
    expect(JSON.parse(stdout)).toMatchObject({
      blobs: null,
      etc: null,
      nets: expect.toSatisfy((n: number) => n <= 1) as number,
    });
  });
  it('a checksum is told to those who may have the bytes, and to nobody else', async () => {
    const iris = await office.signedIn('iris');
    const { id } = (await iris.upload(office.roots.partners, 'price.txt', Buffer.from('12'))).body;
    // Tomas may view there, not download.
    const list = (await tomas.ask<VersionList>('GET', `/api/files/${id}/versions`)).body;
    expect([list.versions[0]?.sha256, (await tomas.ask<NodeInfo>('GET', `/api/nodes/${id}`)).body.sha256]).toEqual([
      null,
      null,
    ]);
    expect((await iris.ask<VersionList>('GET', `/api/files/${id}/versions`)).body.versions[0]?.sha256).toHaveLength(64);
  });
  it('an old version is looked at with the same right as the present one', async () => {
    const iris = await office.signedIn('iris');
    const draw = (background: string) =>
      sharp({ create: { width: 9, height: 9, channels: 3, background } })
        .png()
        .toBuffer();
    const { id } = (await iris.upload(office.roots.partners, 'sign.png', await draw('#a00'))).body;
    await iris.upload(office.roots.partners, 'sign.png', await draw('#0a0'), '&conflict=version');
    expect((await picture(id, 'large?version=1')).status).toBe(200);
    expect((await tomas.fetch(`/api/files/${id}/content?version=1`)).status).toBe(403);
  });
  it('SVG is drawn on the server and never reaches the browser as what it is', async () => {
    const id = await put(
      'mark.svg',
      Buffer.from(
        '<svg xmlns="http://www.w3.org/2000/svg" width="40" height="20"><script>alert(1)</script><rect width="40" height="20" fill="red"/></svg>',
      ),
    );
    expect((await sizeOf(await picture(id, 'large'))).format).toBe('webp');
    const raw = await tomas.fetch(`/api/files/${id}/content?show=1`);
    expect([raw.headers.get('content-type'), raw.headers.get('content-security-policy')]).toEqual([
      'application/octet-stream',
      expect.stringContaining('sandbox') as string,
    ]);
  });
  it.each([
    ['broken.png', randomBytes(4000)],
    ['bomb.svg', Buffer.from('<svg xmlns="http://www.w3.org/2000/svg" width="90000" height="90000"/>')],
    ['broken.pdf', Buffer.from('%PDF-1.7 nothing')],
    ['page.html', Buffer.from('<script>1</script>')],
    ['data.bin', randomBytes(10)],
  ])('of %s there is none, and the next is made all the same', async (name, bytes) => {
    const id = await put(name, bytes);
    expect(((await (await picture(id, 'thumb')).json()) as { code: string }).code).toBe('preview.none');
    const good = await put(
      `after ${name}.png`,
      await sharp({
        create: {
          width: 10,
          height: 10,
          channels: 3,
          background: `#${Math.floor(Math.random() * 4096)
            .toString(16)
            .padStart(3, '0')}`,
        },
      })
        .png()
        .toBuffer(),
    );
    expect((await picture(good, 'thumb')).status).toBe(200);
  });
  it('text comes as text, whatever its encoding, as far as it is shown', async () => {
    const id = await put('notes.txt', Buffer.from('\uFEFFMühle', 'utf16le'));
    expect((await tomas.ask<FileText>('GET', `/api/files/${id}/text`)).body).toMatchObject({
      text: 'Mühle',
      encoding: 'UTF-16',
      truncated: false,
    });
    const long = await put('long.csv', Buffer.from('a,b\n'.repeat(200_000)));
    expect((await tomas.ask<FileText>('GET', `/api/files/${long}/text`)).body).toMatchObject({
      truncated: true,
      sizeBytes: 800_000,
    });
    expect((await tomas.ask('GET', `/api/files/${await put('x.txt', Buffer.from('a\0b'))}/text`)).body.code).toBe(
      'preview.none',
    );
  });
  it('are for those who may view, and gone with the bytes', async () => {
    const id = await put(
      'mine.png',
      await sharp({ create: { width: 30, height: 30, channels: 3, background: '#123' } })
        .png()
        .toBuffer(),
    );
    await picture(id, 'thumb');
    const rosa = await office.signedIn('rosa');
    expect((await rosa.fetch(`/api/files/${id}/thumb`)).status).toBe(404);
    await office.app.get(PreviewsService).settled();
  });
});
