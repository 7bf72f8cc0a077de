import { effectiveAccess, levelOfActs, shareState, verifyChain, type ShareState } from '@quay/core';
import { PDFDocument } from 'pdf-lib';
import sharp from 'sharp';
import { randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { DataSource } from 'typeorm';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { freshDatabase } from '../_fixtures/office.js';
import { loadAskers, loadChain } from '../access/access-facts.js';
import { ENTITIES } from '../app.module.js';
import { bodyOf, LedgerEntry } from '../ledger/ledger.entity.js';
import { checkRows } from '../check/invariants.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { dataSourceOptions, migrate } from '../platform/database/database.js';
import { factsOf, sharesById } from '../shares/shares.queries.js';
import { loadDemo } from './loader.js';
import { Random } from './random.js';
import { photograph, video } from './sample-files.js';

const NOW = Date.parse('2026-11-24T10:04:00Z');
const folder = mkdtempSync(join(tmpdir(), 'demo-'));
let db: DataSource;
let blobs: DiskBlobStore;
let loaded: Awaited<ReturnType<typeof loadDemo>>;

beforeAll(async () => {
  db = await new DataSource(dataSourceOptions(await freshDatabase(), ENTITIES)).initialize();
  await migrate(db);
  blobs = new DiskBlobStore(join(folder, 'blobs'));
  loaded = await loadDemo(db, blobs, randomBytes(32), new Random(1), NOW, new URL('https://files.saltmarsh.example'));
}, 120_000);
afterAll(async () => {
  await db.destroy();
  rmSync(folder, { recursive: true, force: true });
});

describe('the demo office', () => {
  it('is of the size that it should be, with three months of ledger whose chain holds', async () => {
    expect(loaded.files).toBeGreaterThanOrEqual(390);
    expect(loaded.shares).toBe(40);
    expect(await db.query('SELECT count(*)::int AS n FROM person')).toEqual([{ n: 15 }]);
    const entries = await db.getRepository(LedgerEntry).find({ order: { seq: 'ASC' } });
    expect(verifyChain(entries.map((e) => ({ body: bodyOf(e), prevHash: e.prevHash, hash: e.hash })))).toBeNull();
    expect(NOW - (entries[0] as LedgerEntry).at.getTime()).toBeGreaterThan(80 * 86_400_000);
    expect((entries.at(-1) as LedgerEntry).at.getTime()).toBeLessThanOrEqual(NOW);
  });
  it('has shares in every state, at any hour of any day it may be loaded', async () => {
    const shares = await sharesById(
      db.manager,
      new Date(NOW),
      (await db.query<{ id: string }[]>('SELECT id FROM share')).map((s) => s.id),
    );
    const states = shares.map((s) => shareState(factsOf(s), NOW));
    for (const state of ['open', 'scheduled', 'closed', 'usedUp', 'withdrawn', 'broken'] as ShareState[])
      expect(states.filter((s) => s === state).length, state).toBeGreaterThanOrEqual(2);
    expect(states.filter((s) => s === 'open')).toHaveLength(14);
  });
  it('has ten intakes in the states that there are, and deposits that wait, and what holds of them', async () => {
    const counts = async (sql: string) =>
      (await db.query<{ n: number }[]>(`SELECT count(*)::int AS n FROM ${sql}`))[0]?.n;
    expect(await counts('intake')).toBe(10);
    expect(await counts(`deposit WHERE state = 'waiting'`)).toBe(6);
    expect(await counts(`deposit_file WHERE verdict = 'program' AND decided IS NULL`)).toBe(1);
    expect(await checkRows(db)).toEqual([]);
  });
  it('has groups in groups, grants on folders, one that ended, one that will, and a folder that takes nothing over', async () => {
    const askers = await loadAskers(db.manager, null);
    const reach = async (name: string, path: string) => {
      const [person] = await db.query<{ id: string }[]>('SELECT id FROM person WHERE sign_in_name = $1', [name]);
      const [row] = await db.query<{ id: string }[]>('SELECT id FROM node WHERE name = $1', [path]);
      const chain = await loadChain(db.manager, row?.id as string);
      const asker = askers.find((a) => a.personId === person?.id) as (typeof askers)[number];
      const access = effectiveAccess(chain, (chain.at(-1) as (typeof chain)[number]).store, asker, NOW);
      return [levelOfActs(access.acts), access.validUntil !== null];
    };
    expect(await reach('tomas', 'Projects')).toEqual(['edit', false]);
    expect(await reach('ada', 'Weir House')).toEqual(['edit', true]);
    expect(await reach('bram', 'Mill Lane')).toEqual(['download', false]);
    expect(await reach('priya', 'Personnel')).toEqual(['manage', false]);
    expect(await reach('tomas', 'Personnel')).toEqual([null, false]);
    expect(await reach('iris', 'Personnel')).toEqual([null, false]);
  });
  it('counts as many visits as it shows, and never more than the limit', async () => {
    const rows = await db.query<{ used: number; visits: number; most: number | null }[]>(
      'SELECT s.visits_used AS used, (SELECT count(*)::int FROM visit v WHERE v.share_id = s.id) AS visits, s.visit_limit AS most FROM share s',
    );
    for (const row of rows) expect([row.visits, row.most === null || row.used <= row.most]).toEqual([row.used, true]);
  });
  it("holds real files: other people's readers read them (libvips, pdf-lib; ASPRS LAS 1.2 header; WebM by RFC 8794)", async () => {
    const bytesOf = async (name: string) => {
      const [row] = await db.query<[{ sha256: Buffer; size: string }]>(
        'SELECT v.sha256, v.size_bytes AS size FROM node n JOIN file_version v ON v.id = n.version_id WHERE n.name = $1 LIMIT 1',
        [name],
      );
      const blob = await blobs.open(row.sha256);
      const out = Buffer.alloc(Number(row.size));
      await blob?.read(out, 0, out.length);
      await blob?.close();
      return out;
    };
    expect(await sharp(await bytesOf('ML 001.jpg')).metadata()).toMatchObject({
      format: 'jpeg',
      width: 1280,
      height: 960,
    });
    expect(await sharp(await bytesOf('North elevation.png')).metadata()).toMatchObject({ format: 'png', width: 1800 });
    expect((await PDFDocument.load(await bytesOf('Handbook.pdf'))).getPageCount()).toBe(7);
    const las = await bytesOf('Scan 14.las');
    expect([las.toString('ascii', 0, 4), las.readUInt32LE(107) * las.readUInt16LE(105) + las.readUInt32LE(96)]).toEqual(
      ['LASF', las.length],
    );
    const film = await bytesOf('Drone pass.webm');
    expect([film.readUInt32BE(0), film.includes('V_VP8'), film.includes('webm')]).toEqual([0x1a45dfa3, true, true]);
  });
  it('is the same every time: the same seed makes the same bytes', async () => {
    expect((await photograph(new Random(7), 320, 240)).equals(await photograph(new Random(7), 320, 240))).toBe(true);
    expect((await photograph(new Random(7), 320, 240)).equals(await photograph(new Random(8), 320, 240))).toBe(false);
    expect((await video(new Random(7))).equals(await video(new Random(7)))).toBe(true);
    expect([new Random(3).uuid(NOW), new Random(3).uuid(NOW)]).toEqual([
      new Random(3).uuid(NOW),
      expect.stringMatching(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/) as string,
    ]);
  });
});
