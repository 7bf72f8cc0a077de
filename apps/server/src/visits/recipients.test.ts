import type { CodeAsked, ProblemBody, SharedWithMe, ShareSheet, VisitorDoor, ShareRules } from '@quay/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { Mail } from '../platform/mail.js';

const MINUTE = 60_000;
let box: Mailbox;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
let plan: string;
const ids: Record<string, string> = {};

beforeAll(async () => {
  box = await openMailbox();
  office = await openOffice({ smtpUrl: box.url });
  // Times are the machine's: the queue of mail goes by PostgreSQL's clock.
  office.clock.at = Date.now();
  [iris, tomas, rosa] = [await office.signedIn('iris'), await office.signedIn('tomas'), await office.signedIn('rosa')];
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
  for (const { id, name } of await office.db.query<{ id: string; name: string }[]>(
    'SELECT id, sign_in_name AS name FROM person',
  ))
    ids[name] = id;
  await office.db.query(`UPDATE address SET uses = 'sign-in'`);
});
afterAll(async () => {
  await office.close();
  await box.close();
});
beforeEach(async () => {
  office.app.get(Mail).hurry();
  await vi.waitFor(
    async () => expect(await office.db.query(`SELECT 1 FROM mail WHERE state = 'waiting'`)).toEqual([]),
    60_000,
  );
  // Attempts are counted by the hour and the minute.
  office.clock.advance(61 * MINUTE);
  box.mails.length = 0;
});

const audience = (part: object) => ({ kind: 'listed', listed: [], blocked: [], members: [], ...part });
const publish = (part: object, more: object = {}) =>
  iris.ask<ShareSheet>('POST', '/api/shares', {
    ...{ title: 'Plans', message: 'For you alone.', nodeIds: [plan], password: null, visitLimit: null },
    window: { opensAt: null, closesAt: null },
    audience: audience(part),
    ...more,
  });
const pathOf = (sheet: ShareSheet) => new URL(sheet.link).pathname;
const ask = (visitor: Client, path: string, address: string, password: string | null = null) =>
  visitor.ask<CodeAsked & ProblemBody>('POST', `${path}/code`, { address, password });
const open = (visitor: Client, path: string, part: object = {}) =>
  visitor.ask<VisitorDoor & ProblemBody>('POST', `${path}/open`, { password: null, ...part });
const look = async (visitor: Client, path: string) => (await visitor.ask<VisitorDoor>('GET', `${path}/door`)).body;
/** The code that came last to an address. */
async function codeFor(address: string): Promise<string> {
  office.app.get(Mail).hurry();
  return vi.waitFor(() => {
    const mail = box.mails.findLast((m) => [m.to].flat().some((to) => to?.text === address));
    const code = /^\d{6}$/m.exec(mail?.text ?? '')?.[0];
    if (!code) throw new Error(`no code came for ${address}`);
    return code;
  }, 60_000);
}
async function opened(path: string, address: string): Promise<Client> {
  const visitor = office.client();
  const { ticket } = (await ask(visitor, path, address)).body;
  const code = await codeFor(address.toLowerCase());
  const { status, body } = await open(visitor, path, { address, ticket, code });
  expect([status, body.you]).toEqual([200, address.toLowerCase()]);
  return visitor;
}

describe('a share for listed recipients', () => {
  it('opens to whoever proves an address of the list, by a code that holds once', async () => {
    const { body: sheet } = await publish({ listed: ['M.Hale@Fenway.example', '*.brookline.example'] });
    expect(sheet.whoIsMeant).toMatchObject({
      kind: 'listed',
      listed: ['m.hale@fenway.example', '*.brookline.example'],
    });
    expect(sheet.sentence.map((p) => p.text).join('')).toContain(
      '2 listed recipients who prove their address, with the link, can download 1 item',
    );
    const path = pathOf(sheet);
    const visitor = office.client();
    expect(await look(visitor, path)).toMatchObject({
      needsCode: true,
      needsSignIn: false,
      message: '',
      contents: null,
    });
    expect((await open(visitor, path)).body.code).toBe('share.code-needed');
    const { ticket, ...asked } = (await ask(visitor, path, 'm.hale@FENWAY.example')).body;
    expect(asked).toEqual({ address: 'm.hale@fenway.example', minutes: 10 });
    const code = await codeFor('m.hale@fenway.example');
    const spaced = `${code.slice(0, 3)} ${code.slice(3)}`;
    const door = await open(visitor, path, { address: 'M.Hale@fenway.example', ticket, code: spaced });
    expect(door.body).toMatchObject({ you: 'm.hale@fenway.example', message: 'For you alone.' });
    expect((await visitor.fetch(`${path}/files/${plan}`)).status).toBe(200);
    // The code was used; another browser needs one of its own.
    expect((await open(office.client(), path, { address: 'm.hale@fenway.example', ticket, code })).body.code).toBe(
      'share.wrong-code',
    );
    const { visits, history } = (await iris.ask<ShareSheet>('GET', `/api/shares/${sheet.id}`)).body;
    expect(visits.map((v) => v.who)).toEqual(['m.hale@fenway.example']);
    expect(history.map((h) => h.words).join()).toContain('m.hale@fenway.example');
    await opened(path, 'zoe@site.brookline.example');
  });
  it('tells by nothing whether an address is on the list', async () => {
    const { body: sheet } = await publish({ listed: ['fenway.example'], blocked: ['old@fenway.example'] });
    const path = pathOf(sheet);
    const answers: string[] = [];
    for (const address of [
      'm.hale@fenway.example',
      'old@fenway.example',
      'nobody@quarry.example',
      'm@sub.fenway.example',
    ]) {
      const visitor = office.client();
      const began = performance.now();
      const { status, body } = await ask(visitor, path, address);
      // Answers come at a beat: whatever the work took.
      expect((performance.now() - began) % 300).toBeLessThan(200);
      const wrong = await open(visitor, path, { address, ticket: body.ticket, code: '000000' });
      answers.push(
        JSON.stringify([
          status,
          { ...body, address: '', ticket: body.ticket.length },
          wrong.status,
          { ...wrong.body, requestId: '', instance: '' },
        ]),
      );
    }
    expect(new Set(answers).size).toBe(1);
    await codeFor('m.hale@fenway.example');
    expect(box.mails).toHaveLength(1);
  });
  it('takes five tries at a code, and five codes an hour for an address from one source', async () => {
    const path = pathOf((await publish({ listed: ['zoe@calder.example'] })).body);
    const visitor = office.client();
    const address = 'zoe@calder.example';
    const { ticket } = (await ask(visitor, path, address)).body;
    const code = await codeFor(address);
    const wrong = code === '111111' ? '222222' : '111111';
    const left: unknown[] = [];
    for (let n = 0; n < 5; n += 1)
      left.push(
        ((await open(visitor, path, { address, ticket, code: wrong })).body as { triesLeft?: number }).triesLeft,
      );
    expect(left).toEqual([4, 3, 2, 1, 0]);
    // Now the right one is of no use either.
    expect((await open(visitor, path, { address, ticket, code })).body.code).toBe('share.wrong-code');
    for (let n = 0; n < 4; n += 1) expect((await ask(visitor, path, address)).status).toBe(200);
    expect((await ask(visitor, path, address)).body.code).toBe('tries.too-many');
    // Somebody else is not kept out by it.
    expect((await ask(visitor, path, 'marek@calder.example')).status).toBe(200);
  });
  it('lets nobody void or use up the code of somebody else by asking in their name', async () => {
    const path = pathOf((await publish({ listed: ['zoe@calder.example'] })).body);
    const [zoe, stranger] = [office.client(), office.client()];
    const address = 'zoe@calder.example';
    const hers = (await ask(zoe, path, address)).body.ticket;
    const code = await codeFor(address);
    const other = (await ask(stranger, path, address)).body.ticket;
    const wrong = code === '111111' ? '222222' : '111111';
    for (let n = 0; n < 6; n += 1) await open(stranger, path, { address, ticket: other, code: wrong });
    // Nor is her code of use with another ticket, or without one.
    expect((await open(stranger, path, { address, ticket: other, code })).body.code).toBe('share.wrong-code');
    expect((await open(stranger, path, { address, code })).status).toBe(400);
    expect((await open(zoe, path, { address, ticket: hers, code })).status).toBe(200);
  });
  it('lets one in of several who type the same code at once', async () => {
    const path = pathOf((await publish({ listed: ['zoe@calder.example'] })).body);
    const address = 'zoe@calder.example';
    const { ticket } = (await ask(office.client(), path, address)).body;
    const code = await codeFor(address);
    const said = await Promise.all(
      Array.from({ length: 4 }, () => open(office.client(), path, { address, ticket, code })),
    );
    expect(said.filter((answer) => answer.status === 200)).toHaveLength(1);
  });
  it('lets one source type twenty wrong codes in an hour, whatever the address', async () => {
    const path = pathOf((await publish({ listed: ['calder.example'] })).body);
    const visitor = office.client();
    const said: (string | undefined)[] = [];
    for (let n = 0; n < 21; n += 1) {
      const address = `person${n}@calder.example`;
      const { ticket } = (await ask(visitor, path, address)).body;
      said.push((await open(visitor, path, { address, ticket, code: '000000' })).body.code);
      office.clock.advance(2 * MINUTE);
    }
    expect(said).toEqual([...Array<string>(20).fill('share.wrong-code'), 'tries.too-many']);
  });
  it('takes no code that is over, of another share, or of another address', async () => {
    const [one, other] = [
      pathOf((await publish({ listed: ['calder.example'] })).body),
      pathOf((await publish({ listed: ['calder.example'] })).body),
    ];
    const visitor = office.client();
    const zoe = (await ask(visitor, one, 'zoe@calder.example')).body.ticket;
    const pell = (await ask(visitor, one, 'pell@calder.example')).body.ticket;
    const code = await codeFor('pell@calder.example');
    for (const [path, address, ticket] of [
      [one, 'zoe@calder.example', zoe],
      [one, 'zoe@calder.example', pell],
      [other, 'pell@calder.example', pell],
    ] as const)
      expect((await open(visitor, path, { address, ticket, code })).body.code).toBe('share.wrong-code');
    office.clock.advance(10 * MINUTE);
    expect((await open(visitor, one, { address: 'pell@calder.example', ticket: pell, code })).body.code).toBe(
      'share.wrong-code',
    );
  });
  it('asks for its password before it sends anything', async () => {
    const password = 'gravel-heron-silent-oar';
    const path = pathOf((await publish({ listed: ['zoe@calder.example'] }, { password })).body);
    const visitor = office.client();
    expect((await ask(visitor, path, 'zoe@calder.example')).body.code).toBe('share.password-needed');
    expect((await ask(visitor, path, 'zoe@calder.example', 'wrong-one')).body.code).toBe('share.wrong-password');
    const { ticket } = (await ask(visitor, path, 'zoe@calder.example', password)).body;
    const code = await codeFor('zoe@calder.example');
    expect((await open(visitor, path, { address: 'zoe@calder.example', ticket, code })).body.code).toBe(
      'share.password-needed',
    );
    expect((await open(visitor, path, { address: 'zoe@calder.example', ticket, code, password })).status).toBe(200);
  });
  it('shuts at once to whoever is taken off the list or blocked, also mid-visit', async () => {
    const { body: sheet } = await publish({ listed: ['zoe@calder.example', 'fenway.example'] });
    const path = pathOf(sheet);
    const [zoe, marek] = [await opened(path, 'zoe@calder.example'), await opened(path, 'm.hale@fenway.example')];
    await iris.ask('PATCH', `/api/shares/${sheet.id}`, {
      audience: audience({ listed: ['fenway.example'], blocked: ['m.hale@fenway.example'] }),
    });
    for (const visitor of [zoe, marek]) expect((await visitor.fetch(`${path}/files/${plan}`)).status).toBe(401);
    await iris.ask('PATCH', `/api/shares/${sheet.id}`, { audience: audience({ kind: 'verified' }) });
    for (const visitor of [zoe, marek]) expect((await visitor.fetch(`${path}/files/${plan}`)).status).toBe(200);
    // Who came in as anyone has proven nothing.
    await iris.ask('PATCH', `/api/shares/${sheet.id}`, { audience: audience({ kind: 'anyone' }) });
    const anyone = office.client();
    await open(anyone, path);
    await iris.ask('PATCH', `/api/shares/${sheet.id}`, { audience: audience({ kind: 'verified' }) });
    expect((await anyone.fetch(`${path}/files/${plan}`)).status).toBe(401);
  });
  it('is shut to whom the office lets nobody let in, whatever its own list says, at once', async () => {
    const { body: sheet } = await publish({ listed: ['fenway.example', 'zoe@calder.example'] });
    const path = pathOf(sheet);
    const [zoe, marek] = [await opened(path, 'zoe@calder.example'), await opened(path, 'm.hale@fenway.example')];
    const rules = (blocked: string[], by = iris) => by.ask<ShareRules>('PUT', '/api/settings/shares', { blocked });
    const status = async (visitor: Client) => (await visitor.fetch(`${path}/files/${plan}`)).status;
    expect((await rules(['M.Hale@fenway.example', '*.brookline.example'])).body.blocked).toEqual([
      'm.hale@fenway.example',
      '*.brookline.example',
    ]);
    expect([await status(zoe), await status(marek)]).toEqual([200, 401]);
    // Asked for, a code is said to be sent as to anybody else; none comes.
    const handedIn = async () => (await office.db.query<unknown[]>('SELECT 1 FROM mail')).length;
    const before = await handedIn();
    expect((await ask(office.client(), path, 'm.hale@fenway.example')).status).toBe(200);
    expect(await handedIn()).toBe(before);
    // One that is not understood changes nothing; nor does who does not run the server.
    expect((await rules(['no address'])).body.code).toBe('audience.entry');
    expect((await rules([], await office.signedIn('tomas'))).body.code).toBe('duty.missing');
    expect(await status(marek)).toBe(401);
    expect((await rules([])).body.blocked).toEqual([]);
    expect(await status(marek)).toBe(200);
    const { entries } = await office.app.get(LedgerService).page({ limit: 20 });
    expect(entries.filter((e) => e.kind === 'office.blocked').map((e) => e.words)).toEqual([
      'lets shares let m.hale@fenway.example and *.brookline.example in again',
      'has no share let m.hale@fenway.example and *.brookline.example in',
    ]);
  });
  it('sends nothing where there is no mail, and says so', async () => {
    const without = await openOffice();
    const by = await without.signedIn('iris');
    const file = (await by.upload(without.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
    const { body } = await by.ask<ShareSheet>('POST', '/api/shares', {
      ...{ title: 'Plans', message: '', nodeIds: [file], password: null, visitLimit: null },
      ...{ window: { opensAt: null, closesAt: null }, audience: audience({ listed: ['calder.example'] }) },
    });
    const { status, body: said } = await ask(without.client(), pathOf(body), 'zoe@calder.example');
    expect([status, said.code]).toEqual([409, 'mail.none']);
    await without.close();
  });
});

describe('a share for members', () => {
  const forMembers = (...members: object[]) => publish({ kind: 'members', members });
  const person = (name: string) => ({ kind: 'person', id: ids[name] });
  it('opens to who is signed in and meant, themselves or by a group, and to nobody else', async () => {
    const crew = (await iris.ask<{ id: string; name: string }[]>('POST', '/api/groups', { name: 'Crew' })).body.find(
      (g) => g.name === 'Crew',
    );
    await iris.ask('POST', `/api/groups/${crew?.id}/members`, person('rosa'));
    const { body: sheet } = await forMembers(person('tomas'), { kind: 'group', id: crew?.id });
    expect(sheet.sentence.map((p) => p.text).join('')).toContain('Crew and Tomas Osei, signed in, with the link, can');
    const path = pathOf(sheet);
    expect(await look(office.client(), path)).toMatchObject({ needsSignIn: true, needsCode: false, message: '' });
    expect((await open(office.client(), path)).body.code).toBe('share.sign-in');
    expect((await open(iris, path)).body.code).toBe('share.not-meant');
    for (const [by, name] of [
      [tomas, 'Tomas Osei'],
      [rosa, 'Rosa Quill'],
    ] as const) {
      expect((await open(by, path)).body.you).toBe(name);
      expect((await by.fetch(`${path}/files/${plan}`)).status).toBe(200);
    }
    // Who leaves the group is out, at once.
    await iris.ask('DELETE', `/api/groups/${crew?.id}/members/person/${ids['rosa']}`);
    expect((await rosa.fetch(`${path}/files/${plan}`)).status).toBe(401);
    expect((await open(rosa, path)).body.code).toBe('share.not-meant');
  });
  it('ends with the session', async () => {
    const path = pathOf((await forMembers(person('tomas'))).body);
    const again = await office.signedIn('tomas');
    expect((await open(again, path)).status).toBe(200);
    const visit = again.cookieHeader(`${path}/files/x`);
    const got = async () =>
      (await fetch(`${office.origin}${path}/files/${plan}`, { headers: { cookie: visit } })).status;
    expect(await got()).toBe(200);
    // The visit alone is of no use to whoever copied it.
    const alone = visit.split('; ').filter((part) => part.startsWith('quay_visit'));
    const taken = { headers: { cookie: alone.join('; ') } };
    expect((await fetch(`${office.origin}${path}/files/${plan}`, taken)).status).toBe(401);
    await again.ask('DELETE', '/api/session');
    expect(await got()).toBe(401);
  });
  it('is refused at an address where nobody signs in', async () => {
    await office.db.query(`UPDATE address SET uses = 'visitors'`);
    expect((await forMembers(person('tomas'))).body).toMatchObject({ code: 'address.no-sign-in' });
    const { body: sheet } = await publish({ kind: 'verified' });
    const change = { audience: audience({ kind: 'members', members: [person('tomas')] }) };
    expect((await iris.ask('PATCH', `/api/shares/${sheet.id}`, change)).body.code).toBe('address.no-sign-in');
    await office.db.query(`UPDATE address SET uses = 'sign-in'`);
    expect((await iris.ask('PATCH', `/api/shares/${sheet.id}`, change)).status).toBe(200);
  });
});

describe('what is shared with somebody', () => {
  const mine = async (by: Client) =>
    (await by.ask<SharedWithMe[]>('GET', '/api/shares/for-me')).body.map((s) => s.title);
  it('is told to them, by name, by a group, or by their address; and to nobody else', async () => {
    for (const by of [tomas, rosa]) expect((await mine(by)).filter((title) => title.startsWith('For '))).toEqual([]);
    const member = { kind: 'person', id: ids['tomas'] };
    await publish({ kind: 'members', members: [member] }, { title: 'For Tomas' });
    await publish({ listed: ['saltmarsh.example'] }, { title: 'For the office' });
    await publish({ listed: ['saltmarsh.example'], blocked: ['rosa@saltmarsh.example'] }, { title: 'For most' });
    const over = await publish({ kind: 'members', members: [member] }, { title: 'For nobody any more' });
    await iris.ask('PATCH', `/api/shares/${over.body.id}`, { withdrawn: true });
    const titles = async (by: Client) => (await mine(by)).filter((title) => title.startsWith('For '));
    expect(await titles(tomas)).toEqual(['For most', 'For the office', 'For Tomas']);
    expect(await titles(rosa)).toEqual(['For the office']);
    // One's own are in Shares.
    expect(await titles(iris)).toEqual([]);
  });
  it('tells a guest by their address only what is from whoever answers for them', async () => {
    await office.db.query(
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, sponsor_id)
       SELECT gen_random_uuid(), 'pell', 'pell@tidewater.example', 'Pell Calder', 'PC', 'guest', password_hash, created_at, $1
         FROM person WHERE sign_in_name = 'tomas'`,
      [ids['iris']],
    );
    await publish({ listed: ['pell@tidewater.example'] }, { title: 'From Iris' });
    const pell = office.client();
    await pell.ask('POST', '/api/session', { signInName: 'pell', password: 'gravel-heron-silent-oar' });
    expect(await mine(pell)).toEqual(['From Iris']);
    await office.db.query(`UPDATE person SET sponsor_id = $1 WHERE sign_in_name = 'pell'`, [ids['tomas']]);
    expect(await mine(pell)).toEqual([]);
    await office.db.query(`UPDATE person SET sponsor_id = NULL WHERE sign_in_name = 'pell'`);
    expect(await mine(pell)).toEqual([]);
  });
});

describe('whom a share is for is refused', () => {
  it.each([
    ['an empty list', { listed: [] }, 'audience.empty'],
    ['what is no address', { listed: ['zoe@calder.example', 'Zoe Calder'] }, 'audience.entry'],
    ['two entries in one', { listed: ['zoe@calder.example, pell@calder.example'] }, 'audience.entry'],
    ['a block that is none', { listed: ['calder.example'], blocked: ['*.x'] }, 'audience.entry'],
    ['no member', { kind: 'members' }, 'audience.nobody'],
    [
      'a member that is not there',
      { kind: 'members', members: [{ kind: 'group', id: crypto.randomUUID() }] },
      'audience.gone',
    ],
  ])('%s', async (_, part, code) => expect((await publish(part)).body).toMatchObject({ code }));
  it('names the entry', async () =>
    expect((await publish({ listed: ['zoe@calder.example', 'Zoe Calder'] })).body).toMatchObject({
      errors: [{ field: 'audience.listed.1', detail: 'Zoe Calder has no address.' }],
    }));
  it('takes 5,000 addresses, each once, and no more', async () => {
    const many = Array.from({ length: 5000 }, (_, n) => `person${n % 4990}@firm${n % 7}.example`);
    const { status, body } = await publish({ listed: many });
    expect([status, body.whoIsMeant.listed.length]).toEqual([201, new Set(many).size]);
    expect((await publish({ listed: [...many, 'one@more.example'] })).status).toBe(400);
  });
});
