import { spawn } from 'node:child_process';
import { Resolver } from 'node:dns/promises';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { BadMessage, decode, encode, encodeName, readName } from './codec.js';
import { NameServer } from './server.js';
import { addressRecord, newZone, record, withRecord } from './state.js';

const KEY = Buffer.from('a key for tests of the name server');
const folder = mkdtempSync(join(tmpdir(), 'quay-names-'));
let server: NameServer;
let port = 0;
beforeAll(async () => {
  let zone = newZone('saltmarsh.example', 'ns1.saltmarsh.example', 1);
  zone = withRecord(zone, addressRecord('files.saltmarsh.example', '198.51.100.24', 300));
  zone = withRecord(zone, record('www.saltmarsh.example', 5, 300, encodeName('files.saltmarsh.example')));
  for (let n = 0; n < 40; n += 1)
    zone = withRecord(zone, addressRecord('many.saltmarsh.example', `203.0.113.${n}`, 60));
  server = new NameServer([zone], new Map([['quay-update', KEY]]));
  port = await server.listen('127.0.0.1', 0);
  writeFileSync(
    join(folder, 'key'),
    `key "quay-update" { algorithm hmac-sha256; secret "${KEY.toString('base64')}"; };`,
    { mode: 0o600 },
  );
  writeFileSync(
    join(folder, 'wrong'),
    `key "quay-update" { algorithm hmac-sha256; secret "${Buffer.from('another').toString('base64')}"; };`,
  );
});
afterAll(async () => {
  await server.close();
  rmSync(folder, { recursive: true });
});
/** Runs a program while the server answers in this process. */
function run(
  command: string,
  args: string[],
  input = '',
): Promise<{ status: number | null; stdout: string; stderr: string }> {
  return new Promise((resolve) => {
    const child = spawn(command, args);
    const said = { stdout: '', stderr: '' };
    for (const stream of ['stdout', 'stderr'] as const)
      child[stream].on('data', (piece: Buffer) => (said[stream] += piece.toString()));
    child.on('close', (status) => resolve({ status, ...said }));
    child.stdin.end(input);
  });
}
const dig = async (...args: string[]) =>
  (await run('dig', ['@127.0.0.1', '-p', String(port), '+tries=1', '+time=2', ...args])).stdout;
const nsupdate = (lines: string[], key: string | null = 'key') =>
  run(
    'nsupdate',
    [...(key ? ['-k', join(folder, key)] : []), '-t', '3'],
    [`server 127.0.0.1 ${port}`, 'zone saltmarsh.example', ...lines, 'send', ''].join('\n'),
  );

// dig and nsupdate are Debian's (bind9-dnsutils); Node.js's resolver is c-ares.
describe('the name server', () => {
  it('answers dig over UDP and TCP, with aliases, and is authoritative', async () => {
    expect(await dig('files.saltmarsh.example', '+short')).toBe('198.51.100.24\n');
    expect(await dig('FILES.Saltmarsh.Example', '+short', '+tcp')).toBe('198.51.100.24\n');
    expect(await dig('www.saltmarsh.example', '+short')).toBe('files.saltmarsh.example.\n198.51.100.24\n');
    expect(await dig('saltmarsh.example', 'SOA')).toMatch(/flags: qr aa/);
    expect(await dig('saltmarsh.example', 'SOA', '+short')).toMatch(
      /^ns1\.saltmarsh\.example\. hostmaster\.saltmarsh\.example\. 1 /,
    );
  });
  it('says what is not there, what has no such record, and what is not its own', async () => {
    expect(await dig('nowhere.saltmarsh.example')).toMatch(/status: NXDOMAIN/);
    expect(await dig('files.saltmarsh.example', 'AAAA')).toMatch(/status: NOERROR.*\n.*ANSWER: 0/);
    expect(await dig('other.example')).toMatch(/status: REFUSED/);
  });
  it('what does not fit a datagram is asked again over TCP', async () => {
    expect((await dig('many.saltmarsh.example', '+short')).trim().split('\n')).toHaveLength(40);
    const resolver = new Resolver();
    resolver.setServers([`127.0.0.1:${port}`]);
    expect(await resolver.resolve4('many.saltmarsh.example')).toHaveLength(40);
  });
  it('takes updates from nsupdate that are signed with its key (RFC 8945), and counts the serial up', async () => {
    expect(
      await nsupdate([
        'update delete files.saltmarsh.example A',
        'update add files.saltmarsh.example 120 A 198.51.100.77',
        'update add _acme-challenge.files.saltmarsh.example 60 TXT "proof"',
      ]),
    ).toMatchObject({ status: 0, stderr: '' });
    expect(await dig('files.saltmarsh.example', '+short')).toBe('198.51.100.77\n');
    expect(await dig('_acme-challenge.files.saltmarsh.example', 'TXT', '+short')).toBe('"proof"\n');
    expect(await dig('saltmarsh.example', 'SOA', '+short')).toMatch(/ 2 3600 /);
  });
  it('refuses what is unsigned, signed with another key, or outside the zone, and changes nothing', async () => {
    expect((await nsupdate(['update add x.saltmarsh.example 60 A 203.0.113.1'], null)).stderr).toMatch(/REFUSED/);
    expect((await nsupdate(['update add x.saltmarsh.example 60 A 203.0.113.1'], 'wrong')).stderr).toMatch(
      /NOTAUTH|BADSIG|signature/i,
    );
    expect((await nsupdate(['update add x.other.example 60 A 203.0.113.1'])).stderr).toMatch(/NOTZONE/);
    expect(await dig('x.saltmarsh.example')).toMatch(/NXDOMAIN/);
  });
  it('keeps prerequisites (RFC 2136 §2.4): all or nothing', async () => {
    expect(
      (
        await nsupdate([
          'prereq nxdomain files.saltmarsh.example',
          'update add files.saltmarsh.example 60 A 203.0.113.9',
        ])
      ).stderr,
    ).toMatch(/YXDOMAIN/);
    expect(
      (
        await nsupdate([
          'prereq yxrrset files.saltmarsh.example A',
          'update add extra.saltmarsh.example 60 A 203.0.113.9',
        ])
      ).status,
    ).toBe(0);
    expect(await dig('extra.saltmarsh.example', '+short')).toBe('203.0.113.9\n');
  });
  it('can be silent or failing when told to', async () => {
    server.faults = { silent: false, failing: true, caches: false };
    expect(await dig('files.saltmarsh.example')).toMatch(/SERVFAIL/);
    server.faults = { silent: true, failing: false, caches: false };
    expect(
      (await run('dig', ['@127.0.0.1', '-p', String(port), '+tries=1', '+time=1', 'files.saltmarsh.example'])).status,
    ).toBe(9);
    server.faults = { silent: false, failing: false, caches: false };
  });
});

describe('messages', () => {
  it('read back what was written', () => {
    const name = fc
      .array(fc.stringMatching(/^[a-z0-9-]{1,20}$/), { minLength: 1, maxLength: 5 })
      .map((l) => l.join('.'));
    const question = fc.record({ name, type: fc.constantFrom(1, 16, 28), class: fc.constant(1) });
    fc.assert(
      fc.property(
        fc.integer({ min: 0, max: 65_535 }),
        question,
        fc.array(
          fc.record({
            name,
            type: fc.constantFrom(1, 16),
            class: fc.constant(1),
            ttl: fc.integer({ min: 0, max: 1e6 }),
            data: fc.uint8Array({ minLength: 1, maxLength: 40 }).map((b) => Buffer.from(b)),
          }),
          { maxLength: 4 },
        ),
        (id, q, answers) => {
          const message = {
            id,
            response: true,
            opcode: 0,
            authoritative: true,
            truncated: false,
            recursionDesired: true,
            rcode: 3,
            questions: [q],
            answers,
            authorities: [],
            additionals: [],
          };
          const { lastRecordAt: _at, ...read } = decode(encode(message));
          expect(read).toEqual(message);
        },
      ),
    );
  });
  it('hostile bytes are refused, and never loop', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), (bytes) => {
        try {
          decode(Buffer.from(bytes));
        } catch (error) {
          expect(error).toBeInstanceOf(BadMessage);
        }
        expect(() => server.answer(Buffer.from(bytes))).not.toThrow();
      }),
    );
    // RFC 1035 §4.1.4: a pointer that points to itself.
    expect(() => readName(Buffer.from([0xc0, 0x00]), 0)).toThrow(BadMessage);
  });
});
