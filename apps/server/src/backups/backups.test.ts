import { execFile, execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import {
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import type { BackupCopies, BackupFolderFacts, BackupPlan, Backups, LedgerPage, LeftToDo, Task } from '@quay/contract';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { TasksService } from '../adopt/tasks.service.js';
import { Mail } from '../platform/mail.js';
import { BackupsService } from './backups.service.js';

const base = mkdtempSync(join(tmpdir(), 'quay-backups-'));
const folder = join(base, 'copies');
const letters: string[] = [];
const smtp = new SMTPServer({
  disabledCommands: ['AUTH', 'STARTTLS'],
  onData: (stream, _session, done) => {
    let text = '';
    stream.on('data', (piece: Buffer) => (text += piece.toString()));
    stream.on('end', () => {
      letters.push(text);
      done();
    });
  },
});
let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  office = await openOffice({ smtpUrl: `smtp://127.0.0.1:${(smtp.server.address() as AddressInfo).port}` });
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
  rmSync(base, { recursive: true, force: true });
});

const plan: BackupPlan = {
  ...{ folder, every: 'day', atMinute: 22 * 60 + 30, weekday: 1, days: 7, weeks: 5, months: 12 },
  ...{ recipients: [], rehearse: 'week' },
};
const list = async () => (await iris.ask<Backups>('GET', '/api/backups')).body;
const due = () => office.app.get(BackupsService).askWhatIsDue();
const settled = () => office.app.get(TasksService).settled();
const place = async () => (await list()).places[0] as Backups['places'][number];
const HOUR = 3_600_000;
const tasks = async () =>
  (await iris.ask<Task[]>('GET', '/api/tasks')).body.filter((t) => t.kind === 'backup' || t.kind === 'rehearsal');

describe('backups from Settings', () => {
  it('begin with a finding; a place is looked at, set up, and has its first backup at once', async () => {
    expect((await list()).findings.map((f) => f.kind)).toEqual(['none']);
    expect((await iris.ask<LeftToDo>('GET', '/api/office/left')).body.left).toContain('backup');
    const look = async (asked: string) =>
      (await iris.ask<BackupFolderFacts>('POST', '/api/backups/look', { folder: asked })).body;
    expect(await look(folder)).toMatchObject({ mark: 'warn', words: expect.stringContaining('On the same disk') });
    expect(await look('/proc/none')).toMatchObject({ mark: 'fail' });
    expect(await look(office.config.blobRoot)).toMatchObject({ mark: 'fail' });
    await iris.upload(office.roots.iris, 'survey.csv', randomBytes(30_000));
    expect((await iris.ask('POST', '/api/backups', plan)).status).toBe(201);
    await settled();
    const { places, findings } = await list();
    expect(places).toMatchObject([{ folder, fault: null, files: 1, nextAt: '2026-11-24T22:30:00.000Z', task: null }]);
    expect(findings).toEqual([]);
    expect((await iris.ask<LeftToDo>('GET', '/api/office/left')).body.left).not.toContain('backup');
    const { body } = await iris.ask<BackupCopies>('GET', `/api/backups/${(await place()).id}/copies`);
    expect(body).toMatchObject({ fault: null, copies: [{ files: 1, bytes: 30_000, encrypted: false }] });
    expect((await tasks())[0]?.report?.words).toBe('Backed up: 1 file (30 kB). New, and read back: 1 file (30 kB).');
  });
  it('refuse what cannot be, naming the field', async () => {
    const refused = async (change: Partial<BackupPlan>) => {
      const { status, body } = await iris.ask('POST', '/api/backups', { ...plan, folder: join(base, 'b'), ...change });
      return [status, body.errors?.[0]?.field, body.errors?.[0]?.code];
    };
    expect(await refused({ folder: join(folder, 'below') })).toEqual([400, 'folder', 'backup.folder-taken']);
    expect(await refused({ folder: join(office.config.blobRoot, 'x') })).toEqual([
      400,
      'folder',
      'backup.folder-among-files',
    ]);
    // By a detour, and by a link.
    expect(await refused({ folder: join(base, 'x') + '/../copies' })).toEqual([400, 'folder', 'folder.detour']);
    symlinkSync(office.config.blobRoot, join(base, 'link'));
    expect(await refused({ folder: join(base, 'link', 'new', 'below') })).toEqual([
      400,
      'folder',
      'backup.folder-among-files',
    ]);
    expect(await refused({ folder: '/proc/none' })).toEqual([400, 'folder', 'backup.broke-off']);
    expect(await refused({ recipients: ['age1qqqq'] })).toEqual([400, 'recipients.0', 'backup.recipient']);
    expect((await refused({ atMinute: 1440 }))[0]).toBe(400);
    const strange = join(base, 'strange');
    mkdirSync(strange);
    writeFileSync(join(strange, 'thesis.pdf'), 'x');
    expect(await refused({ folder: strange })).toEqual([400, 'folder', 'backup.not-empty']);
    expect((await list()).places).toHaveLength(1);
    // Nothing is left where a request was refused.
    expect(readdirSync(folder)).not.toContain('below');
    expect(readdirSync(strange)).toEqual(['thesis.pdf']);
    const rosa = await office.signedIn('rosa');
    expect((await rosa.ask('POST', '/api/backups', plan)).status).toBe(403);
  });
  it('come at the time that is set, by the clock of the office, once; rehearsed once a week', async () => {
    office.clock.advance(1000);
    await due();
    await settled();
    // The first rehearsal follows the first backup.
    expect((await tasks()).map((t) => [t.kind, t.state])).toEqual([
      ['rehearsal', 'done'],
      ['backup', 'done'],
    ]);
    expect((await place()).rehearsalWords).toMatch(/^The database came back with 1 version of files/);
    await due();
    expect(await tasks()).toHaveLength(2);
    office.clock.at = Date.parse('2026-11-24T22:30:00Z');
    await Promise.all([due(), due()]);
    await settled();
    expect((await tasks())[0]).toMatchObject({ kind: 'backup', state: 'done', askedBy: null });
    expect((await place()).goodAt).toBe('2026-11-24T22:30:00.000Z');
  });
  it('that fail are told once, by mail and in the ledger, and tried again every hour until one works', async () => {
    office.clock.at = Date.parse('2026-11-25T22:31:00Z');
    renameSync(folder, `${folder}.away`);
    await due();
    await settled();
    expect((await place()).fault).toMatch(/^the folder is not there, or not the one that was set up/);
    office.clock.advance(HOUR / 2);
    await due();
    office.clock.advance(HOUR / 2);
    await due();
    await settled();
    expect((await tasks()).filter((t) => t.state === 'failed')).toHaveLength(2);
    const [finding] = (await list()).findings;
    expect(finding).toMatchObject({ kind: 'failed', words: expect.stringContaining('Is the disk plugged in') });
    office.app.get(Mail).hurry();
    await expect.poll(() => letters.length, { timeout: 60_000 }).toBe(1);
    expect(letters[0]).toContain('Subject: A backup failed');
    // Nothing was put where the disk is not.
    expect(readdirSync(base)).not.toContain('copies');
    renameSync(`${folder}.away`, folder);
    office.clock.advance(HOUR);
    await due();
    await settled();
    expect((await list()).findings).toEqual([]);
    const { entries } = (await iris.ask<LedgerPage>('GET', '/api/ledger?kind=backup')).body;
    expect(entries.filter((e) => e.words.startsWith('could not make a backup'))).toHaveLength(1);
  });
  it('that cannot be brought back are a finding, until a rehearsal works', async () => {
    const blobs = join(folder, 'blobs');
    const [file] = readdirSync(blobs, { recursive: true, withFileTypes: true }).filter((f) => f.isFile());
    const path = join(file?.parentPath ?? '', file?.name ?? '');
    const bytes = readFileSync(path);
    writeFileSync(path, Buffer.alloc(bytes.length));
    const { id } = await place();
    expect((await iris.ask('POST', `/api/backups/${id}/rehearse`)).status).toBe(200);
    await settled();
    expect((await list()).findings.map((f) => f.kind)).toEqual(['rehearsal']);
    writeFileSync(path, bytes);
    await iris.ask('POST', `/api/backups/${id}/rehearse`);
    await settled();
    expect((await list()).findings).toEqual([]);
  });
  it('change and end; what lies there stays', async () => {
    const { id } = await place();
    const changed = await iris.ask<Backups>('PUT', `/api/backups/${id}`, { ...plan, every: 'hour', atMinute: 10 });
    expect(changed.body.places[0]).toMatchObject({ every: 'hour', files: 1 });
    const moved = await iris.ask<Backups>('PUT', `/api/backups/${id}`, { ...plan, folder: join(base, 'moved') });
    expect(moved.body.places[0]).toMatchObject({ goodAt: null, files: 0 });
    expect((await iris.ask<Backups>('DELETE', `/api/backups/${id}`)).body.places).toEqual([]);
    expect((await iris.ask('DELETE', `/api/backups/${id}`)).status).toBe(404);
    expect(readdirSync(folder).length).toBeGreaterThan(2);
  });
});

describe('a part of a backup', () => {
  const keyFile = join(base, 'key.txt');
  const there = join(base, 'parts');
  const part = async (path: string, ...more: string[]) => {
    const { config } = office;
    const done = await promisify(execFile)(
      process.execPath,
      [resolve(import.meta.dirname, '../../dist/backups/main.js'), there, readdirSync(there)[0] ?? '', path, ...more],
      {
        env: {
          ...process.env,
          QUAY_DATABASE_URL: config.databaseUrl,
          QUAY_BLOBS: config.blobRoot,
          QUAY_KEY_FILE: config.keyFile,
          QUAY_LOG: 'silent',
        },
      },
    ).catch((error: { stdout: string; stderr: string }) => error);
    return `${done.stdout}${done.stderr}`;
  };
  const names = async (folderId: string) =>
    (await iris.ask<{ items: { name: string; id: string }[] }>('GET', `/api/folders/${folderId}`)).body.items;

  // Six programs, one after the other, each of which loads the whole server.
  it(
    'comes back beside what is there: a folder, a file, a store, a home; twice is once',
    { timeout: 300_000 },
    async () => {
      const rosa = await office.signedIn('rosa');
      const made = await rosa.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, {
        name: 'Weir House',
      });
      const bytes = randomBytes(70_000);
      const { body: plan1 } = await rosa.upload(made.body.id, 'plan.dxf', bytes);
      const deep = await rosa.ask<{ id: string }>('POST', `/api/folders/${made.body.id}/folders`, { name: 'photos' });
      await rosa.upload(deep.body.id, 'one.jpg', Buffer.from('one'));
      await rosa.upload(office.roots.rosa, 'diary.txt', Buffer.from('mine'));
      execFileSync('age-keygen', ['-o', keyFile], { stdio: 'ignore' });
      const recipient = execFileSync('age-keygen', ['-y', keyFile], { encoding: 'utf8' }).trim();
      await iris.ask('POST', '/api/backups', { ...plan, folder: there, recipients: [recipient], rehearse: 'never' });
      await settled();
      await rosa.ask('POST', '/api/trash', { nodeIds: [made.body.id] });
      expect(await part('Projects/Weir House')).toContain('2 files of 2');
      const back = (await names(office.roots.projects)).find((n) => n.name.startsWith('Weir House (as of'));
      expect(back?.name).toMatch(/^Weir House \(as of \w{3} \d+ Nov, \d\d.\d\d\)$/);
      const inside = await names(back?.id ?? '');
      expect(inside.map((n) => n.name).sort()).toEqual(['photos', 'plan.dxf']);
      const got = await iris.fetch(`/api/files/${inside.find((n) => n.name === 'plan.dxf')?.id}/content`);
      expect(Buffer.from(await got.arrayBuffer()).equals(bytes)).toBe(true);
      expect(plan1.name).toBe('plan.dxf');
      expect(await part('Projects/Weir House', '--identity', keyFile)).toContain('0 files of 2');
      expect(await part('projects/weir house/plan.dxf', '--to', 'Projects')).toContain('1 file of 1');
      const home = (await office.db.query<{ name: string }[]>(
        `SELECT s.name FROM store s JOIN person p ON p.id = s.owner_id WHERE p.sign_in_name = 'rosa'`,
      )) as [{ name: string }];
      expect(await part(home[0].name)).toContain('1 file of 1');
      expect(
        (await rosa.ask<{ items: { name: string }[] }>('GET', `/api/folders/${office.roots.rosa}`)).body.items[0]?.name,
      ).toMatch(/as of/);
      expect(await part('Projects/Nothing')).toContain('there is no "Projects/Nothing" in that backup');
      expect(await part('Projects/Weir House', '--to', 'Nowhere')).toContain('there is no folder Nowhere');
    },
  );
});
