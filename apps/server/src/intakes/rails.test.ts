import { NO_GUARDRAILS } from '@quay/core';
import type { GuardrailsAsked, GuardrailsKept, GuardrailTrial, IntakeSheet, ProblemBody } from '@quay/contract';
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { askForFiles, doorOf, fileRefused, handIn, intakeAsked, outsider, sendFile } from '../_fixtures/intakes.js';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Mail } from '../platform/mail.js';
import { TrayService } from './tray.service.js';

const PASSWORD = 'gravel-heron-silent-oar';
const DAY = 86_400_000;
let office: TestOffice;
let mailbox: Mailbox;
let iris: Client;
let tomas: Client;
let into: string;
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  // Mail waits by the machine's clock.
  office.clock.at = Date.now();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
  into = await folder(iris, office.roots.projects, 'Photographs');
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});

const NONE: GuardrailsAsked = { ...NO_GUARDRAILS, domains: [], addresses: [] };
const projects = async () =>
  (await iris.ask<GuardrailsKept>('GET', '/api/guardrails')).body.stores.find((s) => s.name === 'Projects')
    ?.storeId as string;
const rails = (part: Partial<GuardrailsAsked>, of = 'office') =>
  iris.ask<GuardrailsKept>('PUT', `/api/guardrails/${of}`, { ...NONE, ...part });
afterEach(async () => {
  await rails({});
  await rails({}, await projects());
});
const week = (days = 7) => ({ opensAt: null, closesAt: new Date(office.clock.now() + days * DAY).toISOString() });
const sheet = async (id: string) => (await iris.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body;
const ask = (part: object = {}, by = iris, at = into) =>
  by.ask<IntakeSheet & ProblemBody>('POST', '/api/intakes', intakeAsked(at, { window: week(), ...part }));
const change = (id: string, part: object) => iris.ask<IntakeSheet & ProblemBody>('PATCH', `/api/intakes/${id}`, part);

describe('guardrails of intakes', () => {
  it('are kept to by what is asked for, each at the field that it is about, and in the stores that they are of', async () => {
    await rails({ longestDays: 5, passwordNeeded: true, audiences: ['listed'] }, await projects());
    const long = (await ask({ password: PASSWORD, audience: listed })).body;
    expect(long).toMatchObject({ code: 'guardrail.longestDays', errors: [{ field: 'window.closesAt' }] });
    expect(long.detail).toBe('Projects: an intake is open for at most 5 days.');
    expect((await ask({ window: week(4), audience: listed })).body.code).toBe('guardrail.passwordNeeded');
    expect((await ask({ window: week(4), password: PASSWORD })).body.code).toBe('guardrail.audiences');
    expect((await ask({ window: week(4), password: PASSWORD, audience: listed })).status).toBe(201);
    // Not those of another store.
    expect((await ask({}, tomas, office.roots.tomas)).status).toBe(201);
  });

  it('let nothing be asked for where nothing may be added from outside, nor without the second factor', async () => {
    await rails({ levels: ['view', 'download'] });
    expect(await ask()).toMatchObject({ status: 403, body: { code: 'guardrail.levels' } });
    await rails({ factorNeeded: true });
    expect(await ask()).toMatchObject({ status: 403, body: { code: 'guardrail.factorNeeded' } });
    // What is about looking says nothing of it.
    await rails({ watermarkNeeded: true, mostVisits: 3 });
    expect((await ask()).status).toBe(201);
  });

  it('close at once what does not keep to them, for those inside too, and open it when it does', async () => {
    await office.db.query(`UPDATE person SET notices = '{share-barred}' WHERE sign_in_name = 'iris'`);
    const intake = await askForFiles(iris, into, { title: 'Barred intake', window: week() });
    const kept = await askForFiles(iris, into, { window: week(), password: PASSWORD });
    const [zoe, other] = [await outsider(office, intake.token), await outsider(office, kept.token, PASSWORD)];
    await sendFile(zoe, 'a.bin', Buffer.from('a'));
    await rails({ passwordNeeded: true });
    expect((await doorOf(zoe)).state).toBe('broken');
    expect(await fileRefused(zoe, 'b.bin')).toBe('intake.broken');
    expect((await handIn(zoe)).body.code).toBe('intake.broken');
    expect(
      (await office.client().ask<ProblemBody>('POST', `/h/${intake.token}/begin`, { password: null })).body.code,
    ).toBe('intake.broken');
    await sendFile(other, 'c.bin', Buffer.from('c'));
    expect(await sheet(intake.id)).toMatchObject({
      ...{ state: 'broken', isLost: false },
      railFaults: [{ rail: 'passwordNeeded', words: 'The office: an intake has a password.' }],
    });
    office.app.get(Mail).hurry();
    const told = () =>
      mailbox.mails.filter(
        (m) => m.subject === 'An intake of yours was closed by a rule' && m.text?.includes('Barred intake'),
      );
    await vi.waitFor(() => expect(told()).toHaveLength(1), 60_000);
    // It may be changed so that it does not keep to another as little as before, and by what is asked it opens.
    await rails({ passwordNeeded: true, longestDays: 10 });
    expect((await change(intake.id, { window: week(30) })).body.code).toBe('guardrail.longestDays');
    expect(await change(intake.id, { title: 'Barred still' })).toMatchObject({
      status: 200,
      body: { state: 'broken' },
    });
    expect((await change(intake.id, { password: PASSWORD })).body.state).toBe('open');
    await rails({});
    expect((await doorOf(other)).state).toBe('open');
  });

  it('have what was handed in before wait for somebody, where it would have gone straight in', async () => {
    const intake = await askForFiles(iris, into, { window: week(), folderPattern: null });
    const zoe = await outsider(office, intake.token);
    await sendFile(zoe, 'levels.csv', Buffer.from('point,height'));
    await handIn(zoe);
    await change(intake.id, { waits: false });
    const deposit = async () => (await sheet(intake.id)).handedIn[0];
    const byRule = async () => office.app.get(TrayService).acceptByRule((await deposit())?.id ?? '');
    await rails({ passwordNeeded: true });
    await byRule();
    expect((await deposit())?.state).toBe('waiting');
    await rails({});
    await byRule();
    expect((await deposit())?.state).toBe('accepted');
  });

  it('say nothing of what is over, and let nobody finish within the hour after it', async () => {
    const intake = await askForFiles(iris, into, { window: week(1) });
    const zoe = await outsider(office, intake.token);
    await sendFile(zoe, 'a.bin', Buffer.from('a'));
    office.clock.advance(DAY);
    await rails({ passwordNeeded: true });
    expect((await handIn(zoe)).body.code).toBe('intake.broken');
    office.clock.advance(DAY / 24);
    expect(await sheet(intake.id)).toMatchObject({ state: 'closed', railFaults: [] });
  });

  it('tell before they are kept which intakes they would close, by title where whoever asks sees the folder', async () => {
    const intake = await askForFiles(iris, into, { title: 'Trial intake' });
    await askForFiles(tomas, office.roots.tomas, { title: 'Into a home' });
    const trial = async (part: Partial<GuardrailsAsked>, of = 'office') =>
      (await iris.ask<GuardrailTrial>('POST', `/api/guardrails/${of}/trial`, { ...NONE, ...part })).body;
    const found = await trial({ endNeeded: true });
    expect(found.closes).toContainEqual({
      ...{ kind: 'intake', id: intake.id, title: 'Trial intake', by: 'Iris Ward' },
      words: 'The office: an intake has an end.',
    });
    expect(JSON.stringify(found)).not.toContain('Into a home');
    expect(found.closes.some((c) => c.title === null)).toBe(true);
    expect((await trial({ endNeeded: true }, await projects())).closes.map((c) => c.title)).not.toContain(null);
    expect((await sheet(intake.id)).state).toBe('open');
  });

  it('hold links to addresses: one that is moved to such an address opens', async () => {
    const [other] = await office.db.query<{ id: string }[]>(
      `INSERT INTO address (id, scheme, host, port, path_prefix, uses, is_default, created_at)
       SELECT gen_random_uuid(), scheme, 'files.lockfast.example', port, path_prefix, uses, false, created_at FROM address
        WHERE is_default RETURNING id`,
    );
    const intake = await askForFiles(iris, into, { window: week() });
    await rails({ addresses: [other?.id ?? ''] });
    expect((await ask()).body.code).toBe('guardrail.addresses');
    expect((await sheet(intake.id)).state).toBe('broken');
    const { body } = await change(intake.id, { addressId: other?.id });
    expect(body).toMatchObject({ state: 'open', addressId: other?.id });
    expect(body.link).toContain('files.lockfast.example');
    expect((await change(intake.id, { addressId: '01a211be-c2fa-7c9a-b984-1d94ebe6d8c2' })).body.code).toBe(
      'address.gone',
    );
    // People of the office cannot sign in where visitors alone come.
    await office.db.query(`UPDATE address SET uses = 'visitors' WHERE id = $1`, [other?.id]);
    const audience = { ...listed, kind: 'members', listed: [], members: [{ kind: 'person', id: await idOf('tomas') }] };
    expect((await change(intake.id, { audience })).body.code).toBe('address.no-sign-in');
    await rails({});
    expect((await ask({ audience, addressId: other?.id })).body.code).toBe('address.no-sign-in');
    expect((await ask({ audience })).status).toBe(201);
  });
});
const idOf = async (name: string) =>
  (await office.db.query<{ id: string }[]>('SELECT id FROM person WHERE sign_in_name = $1', [name]))[0]?.id;
const listed = { kind: 'listed', listed: ['m.hale@fenway.example'], blocked: [], members: [] };
