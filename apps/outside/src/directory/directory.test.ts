import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { DirectoryServer } from './server.js';
import { DIRECTORY_BASE, DIRECTORY_READER, group, officeDirectory } from './state.js';

// Asked by a client of somebody else's: OpenLDAP's ldapsearch.
let directory: DirectoryServer;
let folder: string;
const MANY = Array.from({ length: 3200 }, (_, n) => `CN=Person ${n},OU=Crew,${DIRECTORY_BASE}`);
beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'quay-directory-'));
  directory = await DirectoryServer.create([...officeDirectory(), group(50, `CN=Many,${DIRECTORY_BASE}`, MANY)]);
  await directory.listen('127.0.0.1', 0);
  writeFileSync(join(folder, 'root.pem'), directory.certificate);
});
afterAll(async () => {
  await directory.close();
  rmSync(folder, { recursive: true });
});

/** What it prints; the server is in this very process, so it must not be waited for synchronously. */
async function search(...args: string[]): Promise<string> {
  const child = spawn(
    'ldapsearch',
    [
      ...['-x', '-LLL', '-o', 'ldif-wrap=no', '-H', `ldaps://127.0.0.1:${directory.port}`, '-b', DIRECTORY_BASE],
      ...args,
    ],
    { env: { ...process.env, LDAPTLS_CACERT: join(folder, 'root.pem') } },
  );
  let text = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (piece) => (text += String(piece)));
  await new Promise((resolve) => child.once('close', resolve));
  return text;
}
const asReader = (...args: string[]) => search('-D', DIRECTORY_READER.dn, '-w', DIRECTORY_READER.password, ...args);

describe('the directory', () => {
  it('finds people, without regard to case, and gives what was asked for', async () => {
    const text = await asReader('(&(objectclass=USER)(samaccountname=Mina))', 'mail', 'objectGUID');
    expect(text).toContain('dn: CN=Mina Sorrel,OU=Crew,dc=saltmarsh,dc=example');
    expect(text).toContain('mail: mina@saltmarsh.example');
    // Bytes that are no text (RFC 2849).
    expect(text).toMatch(/^objectGUID:: wygA/m);
    expect(text).not.toContain('displayName');
  });
  it('lets nobody read who has not said who they are, and nobody in by a wrong password or a disabled account', async () => {
    expect(await search('(objectClass=*)')).toContain('Insufficient access');
    expect(await search('-D', DIRECTORY_READER.dn, '-w', 'wrong')).toContain('Invalid credentials');
    const jory = `CN=Jory Tamsin,OU=Crew,${DIRECTORY_BASE}`;
    expect(await search('-D', jory, '-w', 'jory-heron-sluice')).toContain('Invalid credentials');
  });
  it('gives pages (RFC 2696), and long lists of members in spans', async () => {
    const text = await asReader('-E', 'pr=2/noprompt', '(objectClass=user)', '1.1');
    expect(text.match(/^dn: /gm)).toHaveLength(7);
    const first = await asReader('(cn=Many)', 'member');
    expect(first.match(/^member;range=0-1499: /gm)).toHaveLength(1500);
    const last = await asReader('(cn=Many)', 'member;range=3000-*');
    expect(last.match(/^member;range=3000-\*: /gm)).toHaveLength(200);
  });
  it('has faults that are switched on: only a part', async () => {
    directory.faults = { ...directory.faults, onlyFirst: 2 };
    const text = await asReader('(objectClass=user)', '1.1');
    expect(text.match(/^dn: /gm)).toHaveLength(2);
    expect(text).toContain('Size limit exceeded');
    directory.faults = { ...directory.faults, onlyFirst: 0 };
  });
});
