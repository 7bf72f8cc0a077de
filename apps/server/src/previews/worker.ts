import { execFile, type ChildProcess } from 'node:child_process';
import { Socket } from 'node:net';
import { promisify } from 'node:util';
import sharp, { type Sharp } from 'sharp';
import { frameHead, readFrames } from './frames.js';
import { drawText } from './draw-text.js';
import { mark } from './mark.js';
import { MOST_PICTURED_BYTES, type PreviewDone, type PreviewJob } from './job.js';

// A program of its own, shut in where it sees no file of the office and no network (sandbox.ts). It is sent bytes and
// sends back pictures, all on one line: nothing it is given has a name that it could open. A file that breaks what
// reads it breaks this, and the server starts another.

const LINE = 3;
const THUMB = 320;
const LARGE = 1800;
/** Pixels beyond which an image is not opened: 400 megapixels, larger than any survey photograph. */
const MOST_PIXELS = 400_000_000;
const MOST_PAGE_BYTES = 64 * 1024 * 1024;
const MILLISECONDS = 30_000;
const run = promisify(execFile);

sharp.cache(false);
sharp.concurrency(1);

type Made = Omit<Exclude<PreviewDone, { failed: string }>, 'id' | 'pictures'> & { pictures: Record<string, Buffer> };

const line = new Socket({ fd: LINE });
line.on('error', () => process.exit(1));
line.on('close', () => process.exit(0));
readFrames<PreviewJob>(line, MOST_PICTURED_BYTES, ({ head, body }) => {
  make(head, body).then(
    ({ pictures, ...made }) => answer({ id: head.id, ...made, pictures: sizesOf(pictures) }, Object.values(pictures)),
    (error: Error) => answer({ id: head.id, failed: error.message.slice(0, 200) }, []),
  );
});

function answer(done: PreviewDone, bodies: Buffer[]): void {
  const body = Buffer.concat(bodies);
  line.write(Buffer.concat([frameHead(done, body.length), body]));
}

const sizesOf = (pictures: Record<string, Buffer>): Record<string, number> =>
  Object.fromEntries(Object.entries(pictures).map(([name, bytes]) => [name, bytes.length]));

function make(job: PreviewJob, bytes: Buffer): Promise<Made> {
  switch (job.kind) {
    case 'image':
      return image(bytes);
    case 'pages':
      return pages(job.page, bytes);
    case 'text':
      return drawText(job.lines).then((copy) => ({ ...NO_FACTS, pictures: { copy } }));
    case 'mark':
      return mark(job.of, bytes, job.lines, MOST_PIXELS).then((copy) => ({ ...NO_FACTS, pictures: { copy } }));
  }
}

const NO_FACTS = { pages: null, width: null, height: null };

/** From memory there is no place that a reference inside the image could be relative to; libvips opens none. */
async function image(bytes: Buffer): Promise<Made> {
  const opened = sharp(bytes, { limitInputPixels: MOST_PIXELS, failOn: 'error', animated: false }).autoOrient();
  const { width, height } = await opened.metadata();
  // Both sizes from one decoding, turned as the camera says.
  const [large, thumb] = await Promise.all([drawn(opened.clone(), LARGE), drawn(opened.clone(), THUMB)]);
  return { pages: null, width: width ?? null, height: height ?? null, pictures: { large, thumb } };
}

async function pages(page: number, bytes: Buffer): Promise<Made> {
  const facts = await piped('pdfinfo', ['-'], bytes, 1_000_000);
  const count = Number(/^Pages:\s+(\d+)/m.exec(facts.toString('utf8'))?.[1] ?? 0);
  if (count < 1) throw new Error('no pages');
  if (page > count) throw new Error('no such page');
  const only = ['-png', '-singlefile', '-f', String(page), '-l', String(page), '-scale-to', String(LARGE), '-'];
  const drawnPage = sharp(await piped('pdftoppm', only, bytes, MOST_PAGE_BYTES), { limitInputPixels: MOST_PIXELS });
  const pictures: Record<string, Buffer> = { [`page-${page}`]: await drawn(drawnPage.clone(), LARGE) };
  if (page === 1) pictures['thumb'] = await drawn(drawnPage.clone(), THUMB);
  return { pages: count, width: null, height: null, pictures };
}

/** A program that reads its standard input and answers on its standard output. */
async function piped(program: string, args: string[], bytes: Buffer, maxBuffer: number): Promise<Buffer> {
  const running = run(program, args, { encoding: 'buffer', timeout: MILLISECONDS, maxBuffer });
  const { stdin } = running.child as ChildProcess;
  // It may have seen enough before the end.
  stdin?.on('error', () => undefined);
  stdin?.end(bytes);
  return (await running).stdout;
}

function drawn(picture: Sharp, size: number): Promise<Buffer> {
  return picture
    .resize(size, size, { fit: 'inside', withoutEnlargement: true })
    .webp({ quality: size > THUMB ? 82 : 72, effort: 2 })
    .toBuffer();
}
