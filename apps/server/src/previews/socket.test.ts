import { spawn, type ChildProcess } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import sharp from 'sharp';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

// The service manager's own way of starting a program for each connection, without a service manager:
// systemd-socket-activate (Debian's systemd).
const folder = mkdtempSync(join(tmpdir(), 'quay-previews-'));
const socket = join(folder, 'line');
let manager: ChildProcess;
let office: TestOffice;
let tomas: Client;
beforeAll(async () => {
  const worker = resolve(import.meta.dirname, '../../dist/previews/worker.js');
  manager = spawn('systemd-socket-activate', ['--accept', `--listen=${socket}`, process.execPath, worker], {
    stdio: 'ignore',
  });
  await vi.waitFor(() => expect(existsSync(socket)).toBe(true), 60_000);
  office = await openOffice({ previewsSocket: socket });
  tomas = await office.signedIn('tomas');
});
afterAll(async () => {
  await office.close();
  manager.kill();
  rmSync(folder, { recursive: true, force: true });
});

it('pictures are made by a program that the service manager starts for the connection', async () => {
  const bytes = await sharp({ create: { width: 1200, height: 600, channels: 3, background: '#486' } })
    .png()
    .toBuffer();
  const { id } = (await tomas.upload(office.roots.tomas, 'site.png', bytes)).body;
  const thumb = await vi.waitFor(
    async () => {
      const answer = await tomas.fetch(`/api/files/${id}/thumb`);
      expect(answer.status).toBe(200);
      return Buffer.from(await answer.arrayBuffer());
    },
    { timeout: 60_000, interval: 100 },
  );
  expect(await sharp(thumb).metadata()).toMatchObject({ format: 'webp', width: 320, height: 160 });
});
