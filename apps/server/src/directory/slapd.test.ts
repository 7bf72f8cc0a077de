import { DIRECTORY_SCHEMAS } from '@quay/core';
import type {
  Directory,
  DirectoryFindAnswer,
  DirectoryRunSheet,
  DirectoryTrial,
  Health,
  KeepDirectory,
  Me,
  People,
} from '@quay/contract';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { AccountsService } from '../accounts/accounts.service.js';
import { branchLdif, personLdif, SLAPD_BASE, SLAPD_ROOT, startSlapd, type Slapd } from '../_fixtures/slapd.js';
import { RunsService } from './runs.service.js';

// Against a directory of somebody else's: Debian's slapd, with its memberOf, paging and StartTLS.
const CREW = `ou=Crew,${SLAPD_BASE}`;
const DAY_MS = 86_400_000;
let slapd: Slapd;
let folderOfIt: string;
let office: TestOffice;
let iris: Client;
let tomas: Client;

const settings = (part: Partial<KeepDirectory> = {}): KeepDirectory => ({
  ...{ servers: [{ host: 'localhost', port: slapd.ports.ldaps }], encryption: 'ldaps', roots: slapd.authority },
  ...{ bindDn: SLAPD_ROOT.dn, bindPassword: SLAPD_ROOT.password, base: SLAPD_BASE },
  ...{ preset: 'person', schema: DIRECTORY_SCHEMAS.person, branches: [CREW], awayDays: 0 },
  ...part,
});
const keep = (part: Partial<KeepDirectory> = {}) => iris.ask<Directory>('PUT', '/api/directory', settings(part));
const attempt = (part: Partial<KeepDirectory> = {}) =>
  iris.ask<DirectoryTrial>('POST', '/api/directory/trial', settings(part));
const people = async (): Promise<People> => (await iris.ask<People>('GET', '/api/people')).body;
const state = async () => Object.fromEntries((await people()).people.map((p) => [p.signInName, p.state]));
const inGroup = async (name: string) =>
  (await people()).groups
    .find((g) => g.name === name)
    ?.members.map((m) => m.name)
    .sort();
async function settled(id: string): Promise<DirectoryRunSheet> {
  let sheet: DirectoryRunSheet | null = null;
  await expect
    .poll(
      async () => {
        sheet = (await iris.ask<DirectoryRunSheet>('GET', `/api/directory/runs/${id}`)).body;
        return sheet.state;
      },
      { timeout: 60_000, interval: 50 },
    )
    .not.toMatch(/looking|doing/);
  return sheet as unknown as DirectoryRunSheet;
}
async function look(asked: object = {}, by = iris): Promise<DirectoryRunSheet> {
  const { body } = await by.ask<DirectoryRunSheet>('POST', '/api/directory/runs', asked);
  return settled(body.id);
}
async function agree({ id }: { id: string }): Promise<DirectoryRunSheet> {
  await iris.ask('POST', `/api/directory/runs/${id}`);
  return settled(id);
}
async function signIn(signInName: string, password = `${signInName}-weir-oar`) {
  const client = office.client();
  const { status, body } = await client.ask<{ code: string }>('POST', '/api/session', { signInName, password });
  return { client, status, code: body?.code };
}

beforeAll(async () => {
  folderOfIt = mkdtempSync(join(tmpdir(), 'quay-slapd-'));
  slapd = await startSlapd(folderOfIt);
  office = await openOffice();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
  slapd.change(
    branchLdif('Crew') +
      branchLdif('Old') +
      personLdif('zoe', 'Zoe Calder', CREW) +
      personLdif('noel', 'Noel Weir', CREW) +
      personLdif('ada', 'Ada Lock', `ou=Old,${SLAPD_BASE}`) +
      `dn: cn=Levellers,${CREW}\nobjectClass: groupOfNames\ncn: Levellers\nmember: uid=zoe,${CREW}\n\n` +
      `dn: cn=Everybody,${CREW}\nobjectClass: groupOfNames\ncn: Everybody\nmember: cn=Levellers,${CREW}\nmember: uid=noel,${CREW}\n\n`,
  );
});
afterAll(async () => {
  await office?.close();
  await slapd?.stop();
  rmSync(folderOfIt, { recursive: true });
});

describe('the way to a directory', () => {
  const failed = async (part: Partial<KeepDirectory>) => {
    const { body } = await attempt(part);
    return body.steps.filter((s) => s.outcome === 'failed').map((s) => [s.step, s.words]);
  };

  it.each(['ldaps', 'starttls'] as const)('is gone step by step, by %s', async (encryption) => {
    const servers = [{ host: 'localhost', port: slapd.ports[encryption] }];
    const { body } = await attempt({ encryption, servers });
    expect(body.steps.map((s) => s.outcome)).toEqual(Array(6).fill('ok'));
    expect(body.works).toBe(true);
    expect(body.steps.at(-1)?.words).toBe('3 people, as Zoe Calder, Noel Weir, Ada Lock; 2 groups.');
    expect(body.steps[2]?.words).toMatch(/^TLSv1\.[23]; the certificate of localhost is good until /);
  });

  it('says at which step it ends, and what to do', async () => {
    expect(await failed({ servers: [{ host: 'nowhere.invalid', port: 636 }] })).toEqual([
      ['resolve', 'There is no machine called nowhere.invalid.'],
    ]);
    expect(await failed({ servers: [{ host: 'localhost', port: 9 }] })).toEqual([
      ['connect', 'Nothing answers at localhost, port 9.'],
    ]);
    expect(await failed({ servers: [{ host: '127.0.0.1', port: slapd.ports.ldaps }] })).toEqual([
      ['certificate', 'The certificate is for another name than 127.0.0.1.'],
    ]);
    expect(await failed({ servers: [{ host: 'localhost', port: slapd.ports.starttls }] })).toEqual([
      ['certificate', 'localhost does not encrypt from the first byte there.'],
    ]);
    expect((await failed({ encryption: 'starttls' }))[0]?.[0]).toBe('certificate');
    expect(await failed({ bindPassword: 'wrong' })).toEqual([
      ['bind', `The directory does not accept ${SLAPD_ROOT.dn} and that password.`],
    ]);
    expect(await failed({ base: 'dc=elsewhere' })).toEqual([['base', 'There is nothing called dc=elsewhere.']]);
    expect(await failed({ base: 'elsewhere' })).toEqual([['base', 'elsewhere is no distinguished name.']]);
    const schema = { ...DIRECTORY_SCHEMAS.person, personFilter: '(objectClass=device)' };
    expect(await failed({ schema })).toEqual([['entries', 'Nobody is found.']]);
    expect(await failed({ schema: { ...schema, personFilter: '(objectClass=' } })).toHaveLength(1);
    expect(await failed({ schema: DIRECTORY_SCHEMAS.domain })).toHaveLength(1);
  });

  it('shows an authority that nobody knows yet, with which it works', async () => {
    const { body } = await attempt({ roots: '' });
    expect(body.steps.find((s) => s.outcome === 'failed')?.step).toBe('certificate');
    expect(body.authority).toMatchObject({ subject: 'Saltmarsh' });
    // What the server shows is all of its chain that it has; its own authority signed it.
    expect((await attempt({ roots: body.authority?.pem })).body.works).toBe(true);
  });

  it('has a second server where the first is away', async () => {
    const servers = [
      { host: 'localhost', port: 9 },
      { host: 'localhost', port: slapd.ports.ldaps },
    ];
    expect((await attempt({ servers })).body.works).toBe(true);
  });

  it('is for admins, and the kept password goes nowhere else', async () => {
    expect((await tomas.ask('PUT', '/api/directory', settings())).status).toBe(403);
    expect((await keep()).status).toBe(200);
    expect(JSON.stringify((await iris.ask('GET', '/api/directory')).body)).not.toContain(SLAPD_ROOT.password);
    expect((await attempt({ bindPassword: null })).body.works).toBe(true);
    for (const part of [
      { servers: [{ host: 'localhost', port: slapd.ports.starttls }], encryption: 'starttls' as const },
      { servers: [{ host: '127.0.0.1', port: slapd.ports.ldaps }] },
      { bindDn: `cn=other,${SLAPD_BASE}` },
      // Whoever could say whom to trust could sit in between.
      { roots: '' },
    ])
      expect((await attempt({ ...part, bindPassword: null })).status).toBe(400);
    const sealed = await office.db.query<{ sealed: Buffer }[]>('SELECT password_sealed AS sealed FROM directory');
    expect(sealed[0]?.sealed.toString('latin1')).not.toContain(SLAPD_ROOT.password);
  });
});

describe('what is in it', () => {
  const find = async (asked: object) =>
    (await iris.ask<DirectoryFindAnswer>('POST', '/api/directory/find', asked)).body;

  it('is found by a word, or branch by branch', async () => {
    const names = async (asked: object) => (await find(asked)).found.map((f) => `${f.kind} ${f.name}`);
    expect(await names({ under: SLAPD_BASE })).toEqual(['branch Crew', 'branch Old']);
    expect(await names({ under: CREW })).toEqual([
      ...['group Everybody', 'group Levellers', 'person Noel Weir', 'person Zoe Calder'],
    ]);
    expect(await names({ words: 'weir' })).toEqual(['person Noel Weir']);
    // What is typed is a value, never a part of the filter.
    for (const words of ['*', ')(objectClass=*', '*)(uid=*', '\\2a', '(']) expect(await names({ words })).toEqual([]);
  });
});

describe('following a branch', () => {
  it('tells what it would do, does it when somebody says so, and then nothing more', async () => {
    const run = await look();
    expect(run).toMatchObject({ state: 'waiting', words: '2 new, 2 groups, 3 people into groups', by: 'Iris Ward' });
    expect((await state())['zoe']).toBeUndefined();
    expect(await agree(run)).toMatchObject({ state: 'done', done: 7 });
    expect(await state()).toMatchObject({ zoe: 'usable', noel: 'usable' });
    // Several who press at once are told that another was first, unless that one has ended meanwhile.
    const all = await Promise.all(
      Array.from({ length: 8 }, () => iris.ask<DirectoryRunSheet>('POST', '/api/directory/runs', {})),
    );
    expect([...new Set(all.map((b) => b.status))].sort()).toEqual([201, 409]);
    for (const { body } of all.filter((b) => b.status === 201)) await settled(body.id);
    expect(await inGroup('Everybody')).toEqual(['Levellers', 'Noel Weir']);
    expect(await look()).toMatchObject({ state: 'done', words: 'nothing to change' });
    expect((await iris.ask('POST', `/api/directory/runs/${run.id}`)).status).toBe(409);
  });

  it('lets them sign in by its password, by their name, their address or as people are used to', async () => {
    for (const name of ['zoe', 'ZOE', 'zoe@saltmarsh.example', 'SALTMARSH\\zoe'])
      expect((await signIn(name, 'zoe-weir-oar')).status, name).toBe(204);
    for (const password of ['wrong', ' zoe-weir-oar', '*']) expect((await signIn('zoe', password)).status).toBe(401);
    // Without a password a directory would say yes to anybody (RFC 4513 §5.1.2).
    expect((await signIn('zoe', '')).status).not.toBe(204);
    const { client } = await signIn('zoe');
    expect((await client.ask<Me>('GET', '/api/session')).body.passwordHere).toBe(false);
    const change = { current: 'zoe-weir-oar', next: 'lantern-copper-tide-weir' };
    expect((await client.ask('PUT', '/api/session/password', change)).status).toBe(409);
  });

  it('gives what is granted to its groups, also through groups in groups, and takes it', async () => {
    const { groups } = await people();
    const id = await folder(iris, office.roots.partners, 'Levels');
    const everybody = groups.find((g) => g.name === 'Everybody') as People['groups'][number];
    await iris.ask('POST', `/api/folders/${id}/grants`, {
      subject: { kind: 'group', id: everybody.id },
      level: 'view',
      until: null,
    });
    const { client } = await signIn('zoe');
    expect((await client.ask('GET', `/api/folders/${id}`)).status).toBe(200);
    slapd.change(`dn: cn=Levellers,${CREW}\nchangetype: modify\nreplace: member\nmember: uid=noel,${CREW}\n\n`);
    expect((await agree(await look())).words).toBe('1 person into groups, 1 out of groups');
    expect((await client.ask('GET', `/api/folders/${id}`)).status).toBe(404);
  });

  it('is by it alone: nobody takes somebody out, or changes what they are called', async () => {
    const all = await people();
    const zoe = all.people.find((p) => p.signInName === 'zoe') as People['people'][number];
    const group = all.groups.find((g) => g.name === 'Levellers') as People['groups'][number];
    const [member] = group.members;
    expect(member?.by).toBe('directory');
    const path = `/api/groups/${group.id}/members/${member?.kind}/${member?.id}`;
    expect((await iris.ask<{ code: string }>('DELETE', path)).body).toMatchObject({ code: 'group.by-directory' });
    await expect(office.app.get(AccountsService).passwordLink('zoe')).rejects.toThrow('the password of the directory');
    for (const [method, where, body] of [
      ['PATCH', `/api/people/${zoe.id}`, { name: 'Zoe Weir' }],
      ['POST', `/api/people/${zoe.id}/invitation`, { by: 'link' }],
    ] as const)
      expect((await iris.ask<{ code: string }>(method, where, body)).body).toMatchObject({
        code: 'person.of-directory',
      });
  });

  it('knows whom it knew by another name, and whoever has an old one is somebody else', async () => {
    slapd.change(
      `dn: uid=zoe,${CREW}\nchangetype: modrdn\nnewrdn: uid=zcalder\ndeleteoldrdn: 1\nnewsuperior: ou=Old,${SLAPD_BASE}\n\n` +
        personLdif('zoe', 'Zoe Other', CREW).replace('zoe@', 'other@'),
    );
    // Before any run: her old name there is somebody else's, whose password is none of hers.
    slapd.change(`dn: uid=zoe,${CREW}\nchangetype: modify\nreplace: userPassword\nuserPassword: other-weir-oar\n\n`);
    expect((await signIn('zoe', 'other-weir-oar')).status).toBe(401);
    expect((await signIn('zoe', 'zoe-weir-oar')).status).toBe(204);
    const run = await look();
    expect(run.changes.map((c) => c.words)).toContain('Zoe Calder: signs in as zcalder.');
    await agree(run);
    await agree(await look());
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(204);
    expect((await signIn('zoe', 'other-weir-oar')).status).toBe(204);
    expect((await people()).people.filter((p) => p.directory)).toHaveLength(3);
  });

  it('asks before it disables more than a tenth; ends what they had at once; lets them in again', async () => {
    const { client } = await signIn('noel');
    slapd.change(
      `dn: uid=noel,${CREW}\nchangetype: modrdn\nnewrdn: uid=noel\ndeleteoldrdn: 0\nnewsuperior: ou=Old,${SLAPD_BASE}\n\n`,
    );
    // Elsewhere there, and there all the same.
    expect((await agree(await look())).words).toContain('1 moved');
    slapd.change(`dn: uid=noel,ou=Old,${SLAPD_BASE}\nchangetype: delete\n\n`);
    await office.app.get(RunsService).round();
    const [run] = (await iris.ask<Directory>('GET', '/api/directory')).body.runs;
    expect(run).toMatchObject({ state: 'waiting', asks: true, by: null });
    expect(run?.words).toContain('1 disabled');
    const { lines } = (await iris.ask<Health>('GET', '/api/health')).body;
    expect(lines.find((l) => l.id.startsWith('directory'))).toMatchObject({ id: 'directory.asks', mark: 'warn' });
    // It goes on waiting while the directory says the same, and fills no list.
    const count = async () => (await iris.ask<Directory>('GET', '/api/directory')).body.runs.length;
    const before = await count();
    await office.app.get(RunsService).round();
    expect([await count(), (await iris.ask<Directory>('GET', '/api/directory')).body.runs[0]?.id]).toEqual([
      before,
      run?.id,
    ]);
    expect((await client.ask('GET', '/api/session')).status).toBe(200);
    await agree(run as { id: string });
    expect((await client.ask('GET', '/api/session')).status).toBe(401);
    expect((await state())['noel']).toBe('disabled');
    expect((await signIn('noel')).status).toBe(401);
  });

  it('does by itself what asks for nobody, and tells the ledger', async () => {
    slapd.change(personLdif('rosalind', 'Rosalind Weir', CREW));
    await office.app.get(RunsService).round();
    expect((await state())['rosalind']).toBe('usable');
    const kinds = await office.db.query<{ kind: string }[]>(`SELECT kind FROM ledger_entry ORDER BY seq DESC LIMIT 2`);
    expect(kinds.map((k) => k.kind)).toEqual(['directory.done', 'person.added']);
  });

  it('does nothing but what was shown', async () => {
    slapd.change(personLdif('late', 'Lata Weir', CREW));
    const run = await look();
    // Somebody is about to answer: what it does by itself waits for them.
    await office.app.get(RunsService).round();
    expect((await settled(run.id)).state).toBe('waiting');
    slapd.change(personLdif('later', 'Later Weir', CREW));
    expect(await agree(run)).toMatchObject({
      state: 'dropped',
      words: 'The directory or the office changed meanwhile. Look again.',
    });
    expect((await state())['late']).toBeUndefined();
    const another = await look();
    expect((await iris.ask<DirectoryRunSheet>('DELETE', `/api/directory/runs/${another.id}`)).body.state).toBe(
      'dropped',
    );
  });

  it('takes an account of here for an entry only where an admin says so, and never an admin', async () => {
    slapd.change(personLdif('rosa', 'Rosa Quill', CREW) + personLdif('iris', 'Iris Ward', CREW));
    const run = await look();
    const kept = run.kept.filter((k) => k.couldBe?.kind === 'person');
    expect(kept.map((k) => k.couldBe?.name)).toEqual(['Rosa Quill']);
    expect(run.kept.map((k) => k.words)).toContain(
      'Iris Ward: the admin Iris Ward has iris here, and keeps a password of their own.',
    );
    const [rosa] = kept;
    const taken = [{ entryId: rosa?.entryId, id: rosa?.couldBe?.id }];
    const before = await office.signedIn('rosa');
    await agree(await look({ taken }));
    expect((await before.ask('GET', '/api/session')).status).toBe(401);
    expect((await signIn('rosa')).status).toBe(204);
    expect((await signIn('iris')).status).toBe(401);
    // And back: a password here, by a link.
    expect((await iris.ask('DELETE', `/api/directory/people/${rosa?.couldBe?.id}`)).status).toBe(204);
    expect((await signIn('rosa')).status).toBe(401);
  });
});

describe('a directory that is away', () => {
  it('lets nobody in whom it would have to ask, or for some days those who were here, if the admin says so', async () => {
    await slapd.stop();
    expect(await signIn('zcalder', 'zoe-weir-oar')).toMatchObject({ status: 503, code: 'directory.away' });
    await slapd.start();
    await keep({ awayDays: 3 });
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(204);
    await slapd.stop();
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(204);
    expect((await signIn('zcalder', 'wrong')).status).toBe(401);
    expect((await signIn('rosalind')).status).toBe(503);
    expect((await office.signedIn('iris')).ask).toBeDefined();
    office.clock.advance(3 * DAY_MS + 1);
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(503);
    await slapd.start();
  });

  it('forgets a password that it does not accept any more', async () => {
    const entry = `uid=zcalder,ou=Old,${SLAPD_BASE}`;
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(204);
    slapd.change(`dn: ${entry}\nchangetype: modify\nreplace: userPassword\nuserPassword: new-weir-oar\n\n`);
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(401);
    await slapd.stop();
    expect((await signIn('zcalder', 'zoe-weir-oar')).status).toBe(503);
    await slapd.start();
  });

  it('or gives only a part, changes nothing', async () => {
    const some = Array.from({ length: 520 }, (_, n) => personLdif(`p${n}`, `Person ${n}`, `ou=Old,${SLAPD_BASE}`)).join(
      '',
    );
    slapd.change(some);
    // Whoever is no root gets 500 entries, by pages or not, and may read.
    slapd.change(personLdif('reader', 'Reader', SLAPD_BASE));
    const before = await state();
    await keep({ bindDn: `uid=reader,${SLAPD_BASE}`, bindPassword: 'reader-weir-oar', awayDays: 3 });
    expect(await look()).toMatchObject({
      state: 'failed',
      words: expect.stringContaining('The directory gave only a part of what was asked for.'),
    });
    expect(await state()).toEqual(before);
    await slapd.stop();
    expect(await look()).toMatchObject({ state: 'failed', words: expect.stringContaining('Nothing answers') });
    expect(await state()).toEqual(before);
    await slapd.start();
    await keep();
    expect((await look()).state).toBe('done');
  });

  it('is forgotten with what it knew; whoever came from it stays', async () => {
    expect((await iris.ask<Directory>('DELETE', '/api/directory')).body).toMatchObject({ settings: null, people: 0 });
    expect((await state())['rosalind']).toBe('usable');
    expect((await signIn('rosalind')).status).toBe(401);
    expect((await iris.ask('POST', '/api/directory/runs', {})).status).toBe(409);
  });
});
