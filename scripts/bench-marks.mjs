// Marked copies, measured: the program that makes them, shut in as it is when it serves, against the libraries that it
// uses, called by themselves.
import { randomBytes } from 'node:crypto';
import { join } from 'node:path';
import { clearInterval, setInterval } from 'node:timers';
import { pathToFileURL } from 'node:url';
import { ROOT } from './lib/install.mjs';

const PHOTOS = 4;
const PAGES = 400;
const LINES = ['m.hale@fenway.example', 'Tue 1 Dec 2026, 14:40 GMT, Saltmarsh Survey'];

/** Takes how often, and what tells. */
export async function measureMarks({ rounds, report }) {
  const { Workshop } = await import(pathToFileURL(join(ROOT, 'apps/server/dist/previews/workshop.js')).href);
  const { default: sharp } = await import('sharp');
  const { PDFDocument, StandardFonts, degrees } = await import('pdf-lib');
  const workshop = new Workshop(null, { previewsSocket: null });
  // The line to the program keeps nobody waiting, as it should not a server that stops.
  const alive = setInterval(() => undefined, 1000);
  const ours = async (of, bytes) => {
    const made = await workshop.make({ kind: 'mark', of, lines: LINES }, bytes);
    if ('failed' in made) throw new Error(made.failed);
  };

  const photo = await photoOf(sharp);
  const tile = await tileOf(sharp);
  const bareImage = async (bytes) =>
    sharp(bytes)
      .autoOrient()
      .composite([{ input: tile, tile: true }])
      .jpeg({ quality: 92 })
      .toBuffer();
  const bareDocument = async (bytes) => {
    const document = await PDFDocument.load(bytes);
    const font = await document.embedFont(StandardFonts.HelveticaBold);
    for (const page of document.getPages())
      for (const [n, line] of LINES.entries())
        page.drawText(line, { x: 80, y: 400 - 24 * n, size: 18, font, opacity: 0.26, rotate: degrees(30) });
    await document.save();
  };
  const document = await documentOf(PDFDocument);
  const times = { images: [], bareImages: [], pages: [], barePages: [] };
  // The program is started by the first.
  await ours('image', photo);
  await bareImage(photo);
  for (let n = 0; n < rounds; n += 1) {
    times.images.push(PHOTOS / (await secondsOf(() => together(PHOTOS, () => ours('image', photo)))));
    times.bareImages.push(PHOTOS / (await secondsOf(() => together(PHOTOS, () => bareImage(photo)))));
    times.pages.push(PAGES / (await secondsOf(() => ours('pdf', document))));
    times.barePages.push(PAGES / (await secondsOf(() => bareDocument(document))));
  }
  report('12 MP photographs marked', times.images.map(hundred), 'in 100 s', [
    ['sharp by itself', times.bareImages.map(hundred), 0.7],
  ]);
  report('pages of a PDF marked', times.pages, 'a second', [['pdf-lib by itself', times.barePages, 0.7]]);
  workshop.onApplicationShutdown();
  clearInterval(alive);
}

const hundred = (n) => 100 * n;

const together = (count, work) => Promise.all(Array.from({ length: count }, work));

async function secondsOf(work) {
  const from = performance.now();
  await work();
  return (performance.now() - from) / 1000;
}

/** As much detail as a camera's: noise over a slope. */
function photoOf(sharp) {
  const noise = {
    create: { width: 4000, height: 3000, channels: 3, noise: { type: 'gaussian', mean: 128, sigma: 20 } },
  };
  return sharp(noise).jpeg({ quality: 90 }).toBuffer();
}

function tileOf(sharp) {
  const words = LINES.map((line, n) => `<text y="${24 * n}">${line}</text>`).join('');
  const svg = `<svg xmlns="http://www.w3.org/2000/svg" width="900" height="600"><g transform="translate(60 480) rotate(-30)" font-size="60" fill="#1b2a29" fill-opacity="0.26">${words}</g></svg>`;
  return sharp(Buffer.from(svg)).png().toBuffer();
}

/** Pages with pictures of their own, as scans have. */
async function documentOf(PDFDocument) {
  const document = await PDFDocument.create();
  for (let n = 0; n < PAGES; n += 1) {
    const page = document.addPage([595, 842]);
    page.drawText(`Sheet ${n} ${randomBytes(8).toString('hex')}`, { x: 60, y: 780 });
    for (let line = 0; line < 60; line += 1)
      page.drawLine({ start: { x: 50, y: 60 + line * 11 }, end: { x: 540, y: 60 + ((line * 37) % 700) } });
  }
  return Buffer.from(await document.save());
}
