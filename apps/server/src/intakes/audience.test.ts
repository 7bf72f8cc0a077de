import type { CodeAsked, IntakeDoor, IntakeList, IntakeSheet, Reminded } from '@quay/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { askForFiles, doorOf, fileRefused, handIn, sendFile, type Outsider } from '../_fixtures/intakes.js';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Housekeeping } from '../platform/housekeeping.js';

let office: TestOffice;
let mailbox: Mailbox;
let iris: Client;
let into: string;
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  office.clock.at = Date.now();
  iris = await office.signedIn('iris');
  into = await folder(iris, office.roots.projects, 'Photographs');
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});
beforeEach(() => void mailbox.mails.splice(0));

const ZOE = 'zoe@brookline.example';
const listed = (...entries: string[]) => ({ audience: { kind: 'listed', listed: entries } });
const sheetOf = async (id: string) => (await iris.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body;
const to = () => mailbox.mails.map((m) => (m.to as { text: string }).text).sort();

/** Asks for a code, and begins with what came by mail. */
async function proven(token: string, address: string, password: string | null = null): Promise<Outsider> {
  const client = office.client();
  const { status, body } = await client.ask<CodeAsked>('POST', `/h/${token}/code`, { address, password });
  expect(status).toBe(200);
  await vi.waitFor(() => expect(mailbox.mails).toHaveLength(1), 60_000);
  const [mail] = mailbox.mails.splice(0);
  const code = /^\d{6}/.exec(mail?.text ?? '')?.[0];
  const begun = await client.ask<{ code?: string }>('POST', `/h/${token}/begin`, {
    ...{ password, address, code, ticket: body.ticket },
  });
  expect(begun.body.code).toBeUndefined();
  return { client, token };
}

describe('an intake for those who are listed', () => {
  it('lets in whoever proves an address of the list, says who has handed in, and who has not', async () => {
    const lena = 'lena@mill.example';
    const intake = await askForFiles(iris, into, listed(ZOE, lena, '*.hartop.example'));
    expect(intake.sentence.map((p) => p.text).join('')).toMatch(/^3 listed/);
    expect(intake.people).toEqual({ handedIn: 0, of: 2 });
    const stranger = { client: office.client(), token: intake.token };
    expect(await doorOf(stranger)).toMatchObject({ wants: 'code', inside: null });
    const begin = (client: Client, more = {}) =>
      client.ask<{ code?: string }>('POST', `/h/${intake.token}/begin`, { password: null, ...more });
    expect((await begin(stranger.client)).body.code).toBe('intake.code-needed');
    // Nobody who is not listed is sent anything, and the answer is the same.
    const asked = { address: 'mallory@elsewhere.example', password: null };
    const { status, body } = await stranger.client.ask<CodeAsked>('POST', `/h/${intake.token}/code`, asked);
    expect(status).toBe(200);
    expect((await begin(stranger.client, { ...body, code: '123456', minutes: undefined })).body.code).toBe(
      'intake.wrong-code',
    );
    expect(await fileRefused(stranger, 'a.txt')).toBe('intake.not-begun');
    const zoe = await proven(intake.token, ZOE);
    expect(mailbox.mails).toEqual([]);
    await sendFile(zoe, 'site.txt', Buffer.from('site'));
    // The receipt goes to what was proven, though no address was typed.
    expect((await handIn(zoe)).status).toBe(200);
    await vi.waitFor(() => expect(to()).toEqual([ZOE]), 60_000);
    const sheet = await sheetOf(intake.id);
    expect(sheet.handedIn).toMatchObject([{ provenAs: ZOE, who: ZOE }]);
    expect(sheet.people).toEqual({ handedIn: 1, of: 2 });
    expect(sheet.expected).toMatchObject([{ who: lena, handedInAt: null }, { who: ZOE }]);
    // Whoever has proven it hands in more without another code; once blocked, not even what was begun.
    expect((await begin(zoe.client)).body.code).toBeUndefined();
    await sendFile(zoe, 'more.txt', Buffer.from('more'));
    const audience = { kind: 'listed', listed: [ZOE, lena], blocked: [ZOE] };
    expect((await iris.ask('PATCH', `/api/intakes/${intake.id}`, { audience })).status).toBe(200);
    expect(await fileRefused(zoe, 'third.txt')).toBe('intake.not-begun');
    expect((await handIn(zoe)).body.code).toBe('intake.not-begun');
    expect(await doorOf(zoe)).toMatchObject({ wants: 'code', inside: null });
    const [entry] = await office.db.query<{ detail: { what: string } }[]>(
      `SELECT detail FROM ledger_entry WHERE kind = 'intake.changed' ORDER BY seq DESC LIMIT 1`,
    );
    expect(entry?.detail.what).toBe('who may hand in');
  });

  it('takes a code for one intake at no other, nor at a share, and asks for the password first', async () => {
    const password = 'gravel-heron-silent-oar';
    const [one, other] = [
      await askForFiles(iris, into, { ...listed(ZOE), password }),
      await askForFiles(iris, into, listed(ZOE)),
    ];
    const client = office.client();
    const ask = (token: string, more: object) =>
      client.ask<CodeAsked & { code?: string }>('POST', `/h/${token}/code`, { address: ZOE, ...more });
    expect((await ask(one.token, { password: null })).body.code).toBe('intake.password-needed');
    const { body } = await ask(one.token, { password });
    await vi.waitFor(() => expect(mailbox.mails).toHaveLength(1), 60_000);
    const code = /^\d{6}/.exec(mailbox.mails.splice(0)[0]?.text ?? '')?.[0];
    const proof = { password: null, address: ZOE, ticket: body.ticket, code };
    const begin = (token: string, more: object) =>
      client.ask<{ code?: string }>('POST', `/h/${token}/begin`, { ...proof, ...more });
    expect((await begin(other.token, {})).body.code).toBe('intake.wrong-code');
    expect((await begin(one.token, {})).body.code).toBe('intake.password-needed');
    expect((await begin(one.token, { password })).body.code).toBeUndefined();
    // It is used up.
    expect(
      (await office.client().ask<{ code?: string }>('POST', `/h/${one.token}/begin`, { ...proof, password })).body.code,
    ).toBe('intake.wrong-code');
    const anyone = await askForFiles(iris, into);
    expect((await ask(anyone.token, { password: null })).body.code).toBe('intake.no-code');
  });

  it('reminds those who have handed nothing in, by hand and by its rule, and nobody twice', async () => {
    const closesAt = new Date(office.clock.now() + 3 * 86_400_000).toISOString();
    const entries = ['ash@quarry.example', 'leo@levels.example', '+44 7700 900123', '*.hartop.example'];
    const intake = await askForFiles(iris, into, {
      ...listed(...entries),
      ...{ window: { opensAt: null, closesAt }, remindDays: 2 },
    });
    const remind = () => iris.ask<Reminded & { code?: string }>('POST', `/api/intakes/${intake.id}/remind`);
    const tomas = await office.signedIn('tomas');
    expect((await tomas.ask('POST', `/api/intakes/${intake.id}/remind`)).status).toBe(404);
    expect((await remind()).body).toEqual({ written: 2, lately: 0, without: 1 });
    await vi.waitFor(() => expect(to()).toEqual(entries.slice(0, 2)), 60_000);
    expect(mailbox.mails[0]?.text).toContain(`/h/${intake.token}`);
    expect((await remind()).body).toEqual({ written: 0, lately: 2, without: 1 });
    const ash = await (mailbox.mails.splice(0), proven(intake.token, 'ash@quarry.example'));
    await sendFile(ash, 'consent.txt', Buffer.from('consent'));
    await handIn(ash);
    await vi.waitFor(() => expect(mailbox.mails).toHaveLength(1), 60_000);
    mailbox.mails.splice(0);
    await office.app.get(Housekeeping).tidy();
    expect((await sheetOf(intake.id)).expected.find((e) => e.who === 'leo@levels.example')?.remindedAt).not.toBeNull();
    // A day and a half later the rule holds.
    office.clock.advance(36 * 3_600_000);
    for (let i = 0; i < 2; i += 1) await office.app.get(Housekeeping).tidy();
    await vi.waitFor(() => expect(to()).toEqual(['leo@levels.example']), 60_000);
    iris = await office.signedIn('iris');
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { withdrawn: true });
    expect((await remind()).body.code).toBe('intake.not-open');
  });
});

describe('an intake for members', () => {
  it('is for those who sign in, themselves or by a group, while they are signed in', async () => {
    const [tomas, rosa] = [await office.signedIn('tomas'), await office.signedIn('rosa')];
    const idOf = async (name: string) =>
      (await office.db.query<{ id: string }[]>('SELECT id FROM person WHERE sign_in_name = $1', [name]))[0]
        ?.id as string;
    const members = [{ kind: 'person', id: await idOf('tomas') }];
    const intake = await askForFiles(iris, into, { audience: { kind: 'members', members } });
    expect(intake.people).toEqual({ handedIn: 0, of: 1 });
    const wants = async (client: Client) => (await client.ask<IntakeDoor>('GET', `/h/${intake.token}/door`)).body.wants;
    expect([await wants(office.client()), await wants(rosa), await wants(tomas)]).toEqual([
      ...['sign-in', 'not-meant', 'nothing'],
    ]);
    const begin = (client: Client) =>
      client.ask<{ code?: string }>('POST', `/h/${intake.token}/begin`, { password: null });
    expect((await begin(rosa)).body.code).toBe('intake.not-meant');
    expect((await begin(office.client())).body.code).toBe('intake.sign-in');
    expect((await begin(tomas)).status).toBe(200);
    const by = { client: tomas, token: intake.token };
    await sendFile(by, 'notes.txt', Buffer.from('notes'));
    expect((await handIn(by)).status).toBe(200);
    const row = (await iris.ask<IntakeList>('GET', '/api/intakes')).body.intakes.find((i) => i.id === intake.id);
    expect(row?.people).toEqual({ handedIn: 1, of: 1 });
    expect((await sheetOf(intake.id)).handedIn).toMatchObject([{ provenAs: 'Tomas Osei', who: 'Tomas Osei' }]);
    // A group counts by who is in it at the time, and lets them in.
    const crew = (await iris.ask<{ id: string; name: string }[]>('POST', '/api/groups', { name: 'Crew' })).body.find(
      (g) => g.name === 'Crew',
    );
    const ofCrew = [...members, { kind: 'group', id: crew?.id }];
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { audience: { kind: 'members', members: ofCrew } });
    expect(await wants(rosa)).toBe('not-meant');
    await iris.ask('POST', `/api/groups/${crew?.id}/members`, { kind: 'person', id: await idOf('rosa') });
    expect(await wants(rosa)).toBe('nothing');
    expect((await sheetOf(intake.id)).people).toEqual({ handedIn: 1, of: 2 });
    await begin(tomas);
    await tomas.ask('DELETE', '/api/session');
    expect(await fileRefused(by, 'later.txt')).toBe('intake.not-begun');
    const nobody = await iris.ask<{ code: string }>('PATCH', `/api/intakes/${intake.id}`, {
      audience: { kind: 'members', members: [] },
    });
    expect(nobody.body.code).toBe('audience.nobody');
  });
});
