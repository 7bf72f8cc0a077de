import { execFile } from 'node:child_process';
import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, rename, rm } from 'node:fs/promises';
import { dirname } from 'node:path';
import { Transform, type Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { promisify } from 'node:util';
import type { Opener, Sealer } from './sealer.js';

const PIECE = 1 << 20;

export const read = (path: string): Readable => createReadStream(path, { highWaterMark: PIECE });

/** Takes the SHA-256 of what passes. */
function hashing(): { through: Transform; hex: () => string } {
  const hash = createHash('sha256');
  const through = new Transform({
    highWaterMark: PIECE,
    transform(piece: Buffer, _encoding, done) {
      hash.update(piece);
      done(null, piece);
    },
  });
  return { through, hex: () => hash.digest('hex') };
}

export async function hashOf(bytes: Readable): Promise<{ sha256: string; bytes: number }> {
  const hash = createHash('sha256');
  let count = 0;
  for await (const piece of bytes as AsyncIterable<Buffer>) {
    hash.update(piece);
    count += piece.length;
  }
  return { sha256: hash.digest('hex'), bytes: count };
}

/**
 * Writes bytes to a file of their own, by way of `making`, so that a file is there whole or not at all.
 * @param wanted the SHA-256 that they must have before they are sealed; null: any
 * @returns of the bytes before and after sealing; null when they are not what was wanted, and nothing is there
 */
export async function write(
  bytes: Readable,
  to: { path: string; making: string },
  sealer: Sealer,
  wanted: string | null,
): Promise<{ sha256: string; stored: string } | null> {
  const [before, after] = [hashing(), hashing()];
  try {
    await Promise.all([
      pipeline(bytes, before.through),
      pipeline(await sealer.seal(before.through), after.through, createWriteStream(to.making, { mode: 0o600 })),
    ]);
    const sha256 = before.hex();
    if (wanted !== null && sha256 !== wanted) {
      await rm(to.making, { force: true });
      return null;
    }
    await mkdir(dirname(to.path), { recursive: true, mode: 0o700 });
    await rename(to.making, to.path);
    return { sha256, stored: after.hex() };
  } catch (error) {
    await rm(to.making, { force: true });
    throw error;
  }
}

/** Whether a file of a backup holds what its SHA-256 says. */
export async function isWhole(path: string, name: string, sha256: string, open: Opener): Promise<boolean> {
  try {
    return (await hashOf(await open(name, read(path)))).sha256 === sha256;
  } catch {
    return false;
  }
}

const run = promisify(execFile);

/** Sees that everything written to the file system of a folder is on its disk (sync(1), coreutils). */
export async function flush(folder: string): Promise<void> {
  await run('sync', ['-f', folder]);
}
