import { existsSync, mkdtempSync, readdirSync, readlinkSync, rmSync, unlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, expect, it, vi } from 'vitest';
import { OpenFiles } from './open-files.js';

const folder = mkdtempSync(join(tmpdir(), 'open-files-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));
const put = (name: string, bytes = 'abc') => {
  writeFileSync(join(folder, name), bytes);
  return join(folder, name);
};

/** How often the system says that this process has a file open, also one that has been removed. */
const openOf = (path: string) =>
  readdirSync('/proc/self/fd').filter((fd) => {
    try {
      return readlinkSync(`/proc/self/fd/${fd}`).startsWith(path);
    } catch {
      return false;
    }
  }).length;

it('a file that several read is open once, and closed a moment after the last of them', async () => {
  const files = new OpenFiles();
  const path = put('shared');
  const readers = await Promise.all([files.open(path), files.open(path), files.open(path)]);
  expect([openOf(path), readers.map((r) => r?.sizeBytes)]).toEqual([1, [3, 3, 3]]);
  for (const reader of readers) await reader?.close();
  // Closing twice is closing once: the next reader is not closed by the one before.
  await readers[0]?.close();
  const next = await files.open(path);
  await readers[1]?.close();
  const target = Buffer.alloc(3);
  await next?.file.read(target, 0, 3, 0);
  expect([target.toString(), openOf(path)]).toEqual(['abc', 1]);
  await next?.close();
  await vi.waitFor(() => expect([openOf(path), files.size]).toEqual([0, 0]), 30_000);
});

it('what is removed has its room back as soon as nobody reads it, and is not found again', async () => {
  const files = new OpenFiles();
  const path = put('removed');
  const reader = await files.open(path);
  unlinkSync(path);
  await files.forget(path);
  expect([openOf(path), await files.open(path)]).toEqual([1, null]);
  // Another one of that name is another one.
  put('removed', 'longer');
  const other = await files.open(path);
  expect(other?.sizeBytes).toBe(6);
  await reader?.close();
  await other?.close();
  await files.forget(path);
  expect([openOf(path), files.size, existsSync(path)]).toEqual([0, 0, true]);
});

it('one that is not there is none, and leaves nothing', async () => {
  const files = new OpenFiles();
  expect(await Promise.all([files.open(join(folder, 'none')), files.open(join(folder, 'none'))])).toEqual([null, null]);
  expect(files.size).toBe(0);
});

it('no more than a hundred or so are kept open for nobody', async () => {
  const files = new OpenFiles();
  const opened = [];
  for (let n = 0; n < 300; n += 1) opened.push(await files.open(put(`many ${n}`)));
  expect(files.size).toBe(300);
  for (const file of opened) await file?.close();
  expect(files.size).toBeLessThanOrEqual(128);
});
