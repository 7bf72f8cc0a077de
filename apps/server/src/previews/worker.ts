import { execFile } from 'node:child_process';
import { mkdir, rename, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import sharp, { type Sharp } from 'sharp';

// A program of its own: a file that breaks what reads it breaks this, and the server starts another.

export interface PreviewJob {
  id: number;
  kind: 'image' | 'pages';
  source: string;
  folder: string;
  /** For pages: which one, from 1; the first also makes the thumbnail. */
  page: number;
}
export type PreviewDone =
  { id: number; pages: number | null; width: number | null; height: number | null } | { id: number; failed: string };

const THUMB = 320;
const LARGE = 1800;
/** Pixels beyond which an image is not opened: 400 megapixels, larger than any survey photograph. */
const MOST_PIXELS = 400_000_000;
const SECONDS = 30;
const run = promisify(execFile);

sharp.cache(false);
sharp.concurrency(1);

process.on('message', (job: PreviewJob) => {
  make(job).then(
    (done) => process.send?.(done),
    (error: Error) => process.send?.({ id: job.id, failed: error.message }),
  );
});
process.on('disconnect', () => process.exit(0));

async function make(job: PreviewJob): Promise<PreviewDone> {
  await mkdir(job.folder, { recursive: true, mode: 0o700 });
  return job.kind === 'image' ? image(job) : pages(job);
}

async function image(job: PreviewJob): Promise<PreviewDone> {
  const opened = sharp(job.source, { limitInputPixels: MOST_PIXELS, failOn: 'error', animated: false }).autoOrient();
  const { width, height } = await opened.metadata();
  // Both sizes from one decoding, turned as the camera says.
  await Promise.all([
    written(opened.clone(), LARGE, job.folder, 'large'),
    written(opened.clone(), THUMB, job.folder, 'thumb'),
  ]);
  return { id: job.id, pages: null, width: width ?? null, height: height ?? null };
}

async function pages(job: PreviewJob): Promise<PreviewDone> {
  const { stdout } = await run('pdfinfo', [job.source], { timeout: SECONDS * 1000, maxBuffer: 1_000_000 });
  const count = Number(/^Pages:\s+(\d+)/m.exec(stdout)?.[1] ?? 0);
  if (count < 1) throw new Error('no pages');
  if (job.page > count) throw new Error('no such page');
  const base = join(job.folder, `making-${job.page}-${process.pid}`);
  await run(
    'pdftoppm',
    [
      '-png',
      '-singlefile',
      '-f',
      String(job.page),
      '-l',
      String(job.page),
      '-scale-to',
      String(LARGE),
      job.source,
      base,
    ],
    { timeout: SECONDS * 1000 },
  );
  const opened = sharp(`${base}.png`, { limitInputPixels: MOST_PIXELS });
  await written(opened.clone(), LARGE, job.folder, `page-${job.page}`);
  if (job.page === 1) await written(opened.clone(), THUMB, job.folder, 'thumb');
  await rm(`${base}.png`, { force: true });
  return { id: job.id, pages: count, width: null, height: null };
}

/** Whole or not at all: written beside its place, then renamed. */
async function written(picture: Sharp, size: number, folder: string, name: string): Promise<void> {
  const path = join(folder, `${name}.webp`);
  await picture
    .resize(size, size, { fit: 'inside', withoutEnlargement: true })
    .webp({ quality: size > THUMB ? 82 : 72, effort: 2 })
    .toFile(`${path}.${process.pid}`);
  await rename(`${path}.${process.pid}`, path);
}
