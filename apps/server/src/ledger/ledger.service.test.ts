import type { ChainAnswer, LedgerPage } from '@quay/contract';
import { createHash } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
});
afterAll(() => office.close({ broken: 'the chain is forced open to see that it is noticed' }));

/** JSON with sorted members: all that RFC 8785 asks for where values are plain texts, whole numbers, booleans and null. */
function sorted(value: unknown): string {
  if (value === null || typeof value !== 'object') return JSON.stringify(value);
  return `{${Object.entries(value)
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([k, v]) => `${JSON.stringify(k)}:${sorted(v)}`)
    .join(',')}}`;
}

describe('the ledger', () => {
  it('chains without gaps or forks when many write at once', async () => {
    await Promise.all(
      Array.from({ length: 25 }, (_, i) =>
        iris.ask('POST', `/api/folders/${office.roots.projects}/folders`, { name: `Folder ${i}` }),
      ),
    );
    const { body } = await iris.ask<ChainAnswer>('GET', '/api/ledger/chain');
    expect(body).toMatchObject({ entries: 26, fault: null });
  });
  it('is exported so that it can be verified without the product', async () => {
    const lines = (await (await iris.fetch('/api/ledger/export')).text())
      .trim()
      .split('\n')
      .map((l) => JSON.parse(l) as { body: object; prevHash: string; hash: string });
    let prev = '0'.repeat(64);
    for (const { body, prevHash, hash } of lines) {
      expect(prevHash).toBe(prev);
      expect(createHash('sha256').update(sorted({ body, prevHash })).digest('hex')).toBe(hash);
      prev = hash;
    }
    expect(lines).toHaveLength(26);
  });
  it('is found by kind and word, a page at a time', async () => {
    const first = (await iris.ask<LedgerPage>('GET', '/api/ledger?kind=folder&limit=10')).body;
    const second = (await iris.ask<LedgerPage>('GET', `/api/ledger?kind=folder&limit=10&before=${first.next}`)).body;
    expect([
      first.total,
      first.entries.length,
      (first.entries.at(-1)?.seq ?? 0) - (second.entries[0]?.seq ?? 0),
    ]).toEqual([25, 10, 1]);
    expect((await iris.ask<LedgerPage>('GET', `/api/ledger?find=${encodeURIComponent('folder 7')}`)).body.total).toBe(
      1,
    );
    expect((await iris.ask<LedgerPage>('GET', '/api/ledger?find=%25')).body.total).toBe(0);
    expect((await iris.ask('GET', '/api/ledger?limit=100000')).status).toBe(400);
  });
  it('cannot be changed, cut or emptied through the database, and tells when that was forced', async () => {
    for (const sql of [
      "UPDATE ledger_entry SET kind = 'x' WHERE seq = 3",
      'DELETE FROM ledger_entry WHERE seq = 3',
      'TRUNCATE ledger_entry',
    ])
      await expect(office.db.query(sql)).rejects.toThrow('append-only');
    await office.db.query('ALTER TABLE ledger_entry DISABLE TRIGGER ledger_append_only');
    await office.db.query(`UPDATE ledger_entry SET detail = '{"name":"Another"}' WHERE seq = 5`);
    expect((await iris.ask<ChainAnswer>('GET', '/api/ledger/chain')).body.fault).toEqual({ seq: 5, fault: 'altered' });
  });
  it('shows staff what concerns them, and lets only the admin verify and export', async () => {
    const tomas = await office.signedIn('tomas');
    const { body } = await tomas.ask<LedgerPage>('GET', '/api/ledger');
    expect(body.entries.map((e) => e.words)).toEqual(['signed in']);
    for (const path of ['/api/ledger/chain', '/api/ledger/export'])
      expect((await tomas.ask('GET', path)).status).toBe(403);
  });
});
