import { describe, expect, it } from 'vitest';
import { judgeHealth, worstMark, type DatabaseFacts, type HealthFacts } from './health.js';

const now = Date.parse('2026-11-27T12:00Z');
const DAY = 86_400_000;
const database: DatabaseFacts = {
  version: 150_008,
  sizeBytes: 40e6,
  settings: { fsync: 'on', full_page_writes: 'on', synchronous_commit: 'on', autovacuum: 'on', max_connections: '100' },
  ...{ connections: 12, bloated: [], oldestTransactions: 5000, collationChanged: false, zoneMinutes: 0 },
};
const disk = { what: 'The files', folder: '/srv/quay', freeBytes: 2e12, sizeBytes: 4e12, freeInodes: 9e6, inodes: 1e7 };
const well: HealthFacts = {
  ...{ now, zone: 'Europe/London', node: '24.11.0', disks: [disk], clock: { aheadSeconds: 0.2, of: 'ca.example' } },
  ...{ clockKept: true, database, secrets: [{ path: '/etc/quay/key', mode: 0o600, own: true }] },
  certificates: [{ host: 'files.saltmarsh.example', since: now - 30 * DAY, until: now + 60 * DAY }],
  ...{ backups: [], queue: { waitingSince: null, givenUp: 0 }, directory: null },
  mail: { way: 'answers', words: 'The mail server answers.', unsent: 0 },
  ports: [{ what: 'The server', port: 4180, answers: true }],
  ...{ files: { open: 40, most: 65_536 }, memory: { availableBytes: 4e9, totalBytes: 8e9 }, missingPrograms: [] },
};
const bad = (change: Partial<HealthFacts>): [string, string][] =>
  judgeHealth({ ...well, ...change })
    .filter((l) => l.mark === 'warn' || l.mark === 'fail')
    .map((l) => [l.id, l.mark]);
const ofDatabase = (change: Partial<DatabaseFacts>) => bad({ database: { ...database, ...change } });
const ofDisk = (change: Partial<typeof disk>) => bad({ disks: [{ ...disk, ...change }] });
const ofCertificate = (days: number, of = 90) =>
  bad({ certificates: [{ host: 'a.example', since: now - (of - days) * DAY, until: now + days * DAY }] });
const off = (setting: string) => ofDatabase({ settings: { ...database.settings, [setting]: 'off' } });

describe('the health of a server', () => {
  it('is well when everything is', () => {
    expect(bad({})).toEqual([]);
    expect(worstMark(judgeHealth(well))).toBe('ok');
    expect(judgeHealth(well).every((l) => l.remedy === null)).toBe(true);
  });
  it.each<[string, [string, string][], [string, string][]]>([
    ['a disk that fills', ofDisk({ freeBytes: 0.09 * 4e12 }), [['disk.files', 'warn']]],
    ['a disk that is nearly full', ofDisk({ freeBytes: 0.02 * 4e12 }), [['disk.files', 'fail']]],
    ['a small disk with little on it', ofDisk({ freeBytes: 0.9e9, sizeBytes: 1e9 }), [['disk.files', 'fail']]],
    ['a disk without inodes', ofDisk({ freeInodes: 1000 }), [['disk.files', 'fail']]],
    ['no database', bad({ database: null }), [['database', 'fail']]],
    ['fsync off', off('fsync'), [['database.fsync', 'fail']]],
    ['autovacuum off', off('autovacuum'), [['database.autovacuum', 'fail']]],
    ['an old PostgreSQL', ofDatabase({ version: 130_022 }), [['database.version', 'warn']]],
    ['connections used up', ofDatabase({ connections: 81 }), [['database.connections', 'warn']]],
    ['numbers that run out', ofDatabase({ oldestTransactions: 1.9e9 }), [['database.transactions', 'fail']]],
    ['dead rows', ofDatabase({ bloated: [{ table: 'node', share: 0.5 }] }), [['database.bloat', 'warn']]],
    ['another order of text', ofDatabase({ collationChanged: true }), [['database.collation', 'fail']]],
    ['another idea of the zone', ofDatabase({ zoneMinutes: 60 }), [['clock.zone', 'fail']]],
    ['a certificate that was not renewed', ofCertificate(12), [['certificate.a.example', 'warn']]],
    ['one that ends tomorrow', ofCertificate(1), [['certificate.a.example', 'fail']]],
    ['one that is over', ofCertificate(-1), [['certificate.a.example', 'fail']]],
    ['one of a week, with three days left', ofCertificate(3, 7), []],
    ['one of a week, with one day left', ofCertificate(1, 7), [['certificate.a.example', 'warn']]],
    ['a clock that is off by a day', bad({ clock: { aheadSeconds: -86_400, of: 'x' } }), [['clock', 'fail']]],
    ['a clock that is off by ten seconds', bad({ clock: { aheadSeconds: 10, of: 'x' } }), [['clock', 'warn']]],
    ['a clock that nobody keeps', bad({ clock: null, clockKept: false }), [['clock', 'warn']]],
    [
      'a directory that was not read',
      bad({ directory: { at: now, state: 'failed', words: 'Nothing answers.' } }),
      [['directory', 'fail']],
    ],
    [
      'a directory that asks',
      bad({ directory: { at: now, state: 'asks', words: '3 disabled' } }),
      [['directory.asks', 'warn']],
    ],
    [
      'a directory of long ago',
      bad({ directory: { at: now - 3 * 3_600_000, state: 'well', words: '' } }),
      [['directory.late', 'warn']],
    ],
    ['a late queue', bad({ queue: { waitingSince: now - 3_600_000, givenUp: 0 } }), [['queue.waits', 'warn']]],
    ['what was given up', bad({ queue: { waitingSince: null, givenUp: 2 } }), [['queue.given-up', 'warn']]],
    ['no mail', bad({ mail: { way: 'none', words: '', unsent: 0 } }), [['mail', 'warn']]],
    ['a mail server that is silent', bad({ mail: { way: 'silent', words: 'x', unsent: 0 } }), [['mail', 'fail']]],
    ['mail that was refused', bad({ mail: { way: 'answers', words: 'x', unsent: 3 } }), [['mail.unsent', 'warn']]],
    ['a port', bad({ ports: [{ what: 'The server', port: 443, answers: false }] }), [['port.443', 'fail']]],
    ['a key that others read', bad({ secrets: [{ path: '/k', mode: 0o644, own: true }] }), [['secrets', 'fail']]],
    ['a key of somebody else', bad({ secrets: [{ path: '/k', mode: 0o600, own: false }] }), [['secrets', 'warn']]],
    ['no key', bad({ secrets: [{ path: '/k', mode: null, own: true }] }), [['secrets', 'fail']]],
    ['few open files', bad({ files: { open: 40, most: 1024 } }), [['files', 'warn']]],
    ['no open file left', bad({ files: { open: 60_000, most: 65_536 } }), [['files', 'fail']]],
    ['no memory', bad({ memory: { availableBytes: 1e8, totalBytes: 8e9 } }), [['memory', 'warn']]],
    ['programs that are missing', bad({ missingPrograms: ['bubblewrap'] }), [['programs', 'warn']]],
    ['an old Node.js', bad({ node: '20.19.0' }), [['node', 'warn']]],
    [
      'backups that fail and are late',
      bad({
        backups: [
          { kind: 'failed', words: 'x', remedy: 'y' },
          { kind: 'late', words: 'x', remedy: 'y' },
        ],
      }),
      [
        ['backup.failed', 'fail'],
        ['backup.late', 'warn'],
      ],
    ],
  ])('says %s, with a remedy', (_, found, expected) => expect(found).toEqual(expected));
  it('says how far a clock is off, and by whose', () => {
    const words = (aheadSeconds: number) =>
      judgeHealth({ ...well, clock: { aheadSeconds, of: 'ca.example' } }).find((l) => l.id === 'clock')?.words;
    expect(words(0)).toBe(
      'By this machine it is Fri 27 Nov, 12:00 in Europe/London (UTC +00:00), and ca.example agrees.',
    );
    expect(words(86_400)).toContain('ca.example says 24 hours less');
    expect(words(-45)).toContain('ca.example says 45 seconds more');
  });
});
