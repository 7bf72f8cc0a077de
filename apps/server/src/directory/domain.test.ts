import { DIRECTORY_SCHEMAS } from '@quay/core';
import type { Directory, DirectoryFindAnswer, DirectoryRunSheet, KeepDirectory, People } from '@quay/contract';
import { createServer, type AddressInfo, type Server, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { openOutside, type Outside } from '../_fixtures/outside.js';

// Against the stand-in of the outside world, as domain controllers are: ids of bytes, members in spans, disabled accounts.
const BASE = 'dc=saltmarsh,dc=example';
/** Beside the office; pages and lists of members come in spans of fewer. */
const [CROWD, SPAN] = [260, 50];
let outside: Outside;
let office: TestOffice;
let iris: Client;

const settings = (part: Partial<KeepDirectory> = {}): KeepDirectory => ({
  ...{ servers: [{ host: '192.168.20.15', port: 636 }], encryption: 'ldaps', roots: outside.directoryRoot },
  ...{ bindDn: `CN=Quay,OU=Services,${BASE}`, bindPassword: 'ferry-lamp-osier-71', base: BASE },
  ...{ preset: 'domain', schema: DIRECTORY_SCHEMAS.domain, branches: [`ou=crew,${BASE}`], awayDays: 0 },
  ...part,
});
const keep = (part: Partial<KeepDirectory> = {}) => iris.ask<Directory>('PUT', '/api/directory', settings(part));
async function settled(id: string): Promise<DirectoryRunSheet> {
  const sheet = async () => (await iris.ask<DirectoryRunSheet>('GET', `/api/directory/runs/${id}`)).body;
  await expect.poll(async () => (await sheet()).state, { timeout: 60_000 }).not.toMatch(/looking|doing/);
  return sheet();
}
const look = async (asked: object = {}): Promise<DirectoryRunSheet> =>
  settled((await iris.ask<DirectoryRunSheet>('POST', '/api/directory/runs', asked)).body.id);
const people = async (): Promise<People> => (await iris.ask<People>('GET', '/api/people')).body;

beforeAll(async () => {
  outside = await openOutside({ OUTSIDE_DIRECTORY_CROWD: String(CROWD), OUTSIDE_DIRECTORY_SPAN: String(SPAN) });
  office = await openOffice({ reach: outside.reach });
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office?.close();
  await outside?.close();
});

describe('a crowded directory', () => {
  it('is chosen from by hand: who was not chosen gets nothing', async () => {
    await keep({ branches: [] });
    const { body } = await iris.ask<DirectoryFindAnswer>('POST', '/api/directory/find', { words: 'sorrel' });
    const [mina] = body.found;
    expect(mina).toMatchObject({ kind: 'person', name: 'Mina Sorrel', state: 'free' });
    const run = await look({ chosen: [mina?.entryId] });
    expect(run.changes.map((c) => c.words)).toEqual(['Mina Sorrel gets an account, and signs in as mina.']);
    await iris.ask('POST', `/api/directory/runs/${run.id}`);
    expect((await settled(run.id)).state).toBe('done');
    const again = await iris.ask<DirectoryFindAnswer>('POST', '/api/directory/find', { words: 'sorrel' });
    expect(again.body.found[0]?.state).toBe('here');
    expect((await look()).words).toBe('nothing to change');
  });

  it('is read to its end, by pages and by spans; groups in each other are told', async () => {
    await keep();
    const run = await look();
    // Of those with an account here already nobody is taken by their name alone, and who is disabled there is not new.
    expect(run.words).toBe('264 new, 5 groups, 267 people into groups');
    expect(run.kept.map((k) => k.words)).toContain(
      'Round is not put into Robin: the directory has them in each other.',
    );
    expect(run.kept.map((k) => k.couldBe?.name)).toContain('Tomas Osei');
    await iris.ask('POST', `/api/directory/runs/${run.id}`);
    expect(await settled(run.id)).toMatchObject({ state: 'done', done: run.total });
    const all = await people();
    const sizeOf = (name: string) => all.groups.find((g) => g.name === name)?.members.length;
    // Rose's name is written in another way by each who names her.
    expect([sizeOf('Many'), sizeOf('Round'), sizeOf('Field trainees')]).toEqual([CROWD + 1, 2, 2]);
    expect(all.people.some((p) => p.name === 'Jory Tamsin')).toBe(false);
    expect((await look()).words).toBe('nothing to change');
  }, 120_000);

  it('lets them sign in by all of their names, however odd they are written there', async () => {
    const signIn = async (signInName: string, password: string) =>
      (await office.client().ask('POST', '/api/session', { signInName, password })).status;
    for (const name of ['rose', 'rose@ad.saltmarsh.example', 'SALTMARSH\\rose', 'rose@saltmarsh.example'])
      expect(await signIn(name, 'rose-heron-sluice'), name).toBe(204);
    for (const name of ['jory', 'person1*', 'rose)(uid=*', 'nobody'])
      expect(await signIn(name, 'rose-heron-sluice'), name).toBe(401);
  });

  it('that gives a part, is slow or says nothing changes nothing, and each is told apart', async () => {
    const before = (await people()).people.length;
    await outside.faults({ 'directory.onlyFirst': 120 });
    expect(await look()).toMatchObject({ state: 'failed', words: expect.stringContaining('only a part') });
    await outside.faults({ 'directory.slowMs': 300 });
    expect((await look()).words).toBe('nothing to change');
    await outside.faults({});
    expect((await people()).people.length).toBe(before);
    expect((await people()).people.filter((p) => p.state === 'disabled')).toEqual([]);
  });
});

describe('whoever only says that they are a directory', () => {
  let server: Server;
  const sockets = new Set<Socket>();
  let answer: (socket: Socket) => void;
  beforeAll(async () => {
    server = createServer((socket) => {
      sockets.add(socket.on('error', () => undefined));
      socket.once('data', () => answer(socket));
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  });
  afterAll(() => {
    for (const socket of sockets) socket.destroy();
    server.close();
  });
  const fault = async () => {
    const servers = [{ host: '127.0.0.1', port: (server.address() as AddressInfo).port }];
    const asked = settings({ servers, encryption: 'starttls' });
    const { body } = await iris.ask<{ steps: { step: string; outcome: string; words: string }[] }>(
      'POST',
      '/api/directory/trial',
      asked,
    );
    return body.steps.find((s) => s.outcome === 'failed')?.words;
  };
  /** Success of message 1 (RFC 4511 §4.12). */
  const SUCCESS = Buffer.from('300c02010178070a010004000400', 'hex');

  it.each([
    ['goes on in the clear', Buffer.concat([SUCCESS, Buffer.from('300c02010261070a010004000400', 'hex')])],
    ['answers too much', Buffer.alloc(5000, 0x30)],
    ['answers with what is none', Buffer.from('HTTP/1.1 400 Bad Request\r\n\r\n')],
    ['refuses', Buffer.from('300c02010178070a013404000400', 'hex')],
    ['answers to another question', Buffer.from('300c02010278070a010004000400', 'hex')],
  ])('and %s gets no password', async (_, bytes) => {
    const heard: Buffer[] = [];
    answer = (socket) => {
      socket.on('data', (piece) => heard.push(piece));
      socket.write(bytes);
    };
    expect(await fault()).toMatch(/^127\.0\.0\.1 does not begin to encrypt: /);
    expect(Buffer.concat(heard).toString('latin1')).not.toContain('ferry-lamp');
  });

  it('and then breaks off gets no password either', async () => {
    const heard: Buffer[] = [];
    answer = (socket) => {
      socket.on('data', (piece) => {
        heard.push(piece);
        socket.destroy();
      });
      socket.write(SUCCESS);
    };
    expect(await fault()).toBe('127.0.0.1 breaks off when encryption begins.');
    expect(heard.length).toBeGreaterThan(0);
    expect(Buffer.concat(heard).toString('latin1')).not.toContain('ferry-lamp');
  });
});
