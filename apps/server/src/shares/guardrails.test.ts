import { MAY_DOWNLOAD, NO_GUARDRAILS } from '@quay/core';
import type {
  ChangeShare,
  GuardrailsAsked,
  GuardrailsFor,
  GuardrailsKept,
  GuardrailTrial,
  ProblemBody,
  ShareSheet,
  SharesToday,
  VisitorDoor,
} from '@quay/contract';
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { Mail } from '../platform/mail.js';
import { Jobs } from '../platform/jobs/jobs.service.js';

const PASSWORD = 'gravel-heron-silent-oar';
const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let plan = '';
let mailbox: Mailbox;
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  // Mail waits by the machine's clock.
  office.clock.at = Date.now();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});
const NONE: GuardrailsAsked = { ...NO_GUARDRAILS, domains: [], addresses: [] };
/** Which store the projects are. */
const projects = async () => {
  const { stores } = (await iris.ask<GuardrailsKept>('GET', '/api/guardrails')).body;
  return stores.find((s) => s.name === 'Projects')?.storeId as string;
};
const rails = (part: Partial<GuardrailsAsked>, of = 'office', by = iris) =>
  by.ask<GuardrailsKept>('PUT', `/api/guardrails/${of}`, { ...NONE, ...part });
afterEach(async () => {
  await rails({});
  await rails({}, await projects());
  await settled();
});
/** Everything that was handed in has been done. */
const settled = () => vi.waitFor(async () => expect(await office.app.get(Jobs).waiting('guardrails')).toBe(0), 60_000);

const asked = (part: object = {}) => ({
  ...{ title: 'Drawings', nodeIds: [plan], password: null, visitLimit: null },
  window: { opensAt: null, closesAt: new Date(office.clock.now() + 7 * DAY).toISOString() },
  ...part,
});
const publish = (part: object = {}, by = iris) => by.ask<ShareSheet>('POST', '/api/shares', asked(part));
const sheet = async (id: string) => (await iris.ask<ShareSheet>('GET', `/api/shares/${id}`)).body;
const change = (id: string, to: ChangeShare) => iris.ask<ShareSheet>('PATCH', `/api/shares/${id}`, to);
const door = async (link: string) =>
  (await office.client().ask<VisitorDoor>('GET', `${link.slice(link.indexOf('/s/'))}/door`)).body;
/** A browser that is inside. */
async function inside(link: string) {
  const [client, at] = [office.client(), link.slice(link.indexOf('/s/'))];
  const opened = await client.ask<VisitorDoor>('POST', `${at}/open`, { password: null });
  const take = async () => (await client.fetch(`${at}/files/${plan}`)).status;
  return { status: opened.status, code: (opened.body as unknown as ProblemBody).code, take };
}

describe('a share that is made', () => {
  it('keeps to what the office and the store say, each at the field that it is about', async () => {
    await rails({ longestDays: 5, audiences: ['verified', 'listed', 'members'] });
    await rails({ passwordNeeded: true, mostVisits: 9 }, await projects());
    const far = await publish();
    expect([far.status, far.body]).toEqual([
      400,
      expect.objectContaining({
        code: 'guardrail.longestDays',
        errors: [expect.objectContaining({ field: 'window.closesAt' })],
        detail: 'The office: a share is open for at most 5 days.',
      }),
    ]);
    const window = { opensAt: null, closesAt: new Date(office.clock.now() + 4 * DAY).toISOString() };
    const code = async (part: object) => (await publish({ window, ...part })).body as unknown as ProblemBody;
    expect((await code({})).code).toBe('guardrail.audiences');
    const audience = { kind: 'verified', listed: [], blocked: [], members: [] };
    expect(await code({ audience })).toMatchObject({
      code: 'guardrail.passwordNeeded',
      detail: 'Projects: a share has a password.',
    });
    expect((await code({ audience, password: PASSWORD })).code).toBe('guardrail.mostVisits');
    expect((await publish({ window, audience, password: PASSWORD, visitLimit: 9 })).status).toBe(201);
  });

  it('has no password that is easy to guess, also where that is meant; of one that goes on nothing is said', async () => {
    const weak = { password: 'summer2026', weakPasswordMeant: true };
    const { body: before } = await publish(weak);
    await rails({ strongPassword: true });
    expect((await publish(weak)).body).toMatchObject({ code: 'guardrail.strongPassword' });
    expect((await publish({ password: PASSWORD })).status).toBe(201);
    expect((await sheet(before.id)).railFaults.map((f) => f.rail)).toEqual(['strongPassword']);
  });

  it('hands out marked copies, or nothing is taken of it, where that is needed', async () => {
    await rails({ watermarkNeeded: true });
    const far = await publish({ may: MAY_DOWNLOAD });
    expect([far.status, far.body]).toEqual([
      400,
      expect.objectContaining({
        code: 'guardrail.watermarkNeeded',
        errors: [expect.objectContaining({ field: 'may.watermark' })],
      }),
    ]);
    expect((await publish({ may: { ...MAY_DOWNLOAD, level: 'view' } })).status).toBe(201);
    const { body: share } = await publish({ may: { ...MAY_DOWNLOAD, watermark: 'others-plain' } });
    const off = await change(share.id, { may: MAY_DOWNLOAD });
    expect(off.body).toMatchObject({ code: 'guardrail.watermarkNeeded' });
    expect((await sheet(share.id)).may.watermark).toBe('others-plain');
  });

  it('has its link on the addresses that it may be on; moved to another it is closed, and back it opens', async () => {
    const add = async (host: string) => {
      const made = { wayIn: 'office', scheme: 'http', host, port: 8080, pathPrefix: '', uses: 'sign-in' };
      return (await iris.ask<{ id: string }>('POST', '/api/reach/addresses', made)).body.id;
    };
    const [one, other] = [await add('one.saltmarsh.example'), await add('other.saltmarsh.example')];
    const { body: share } = await publish({ addressId: one });
    await rails({ addresses: [one] }, await projects());
    const far = await publish({ addressId: other });
    expect([far.status, far.body]).toEqual([
      400,
      expect.objectContaining({
        code: 'guardrail.addresses',
        errors: [expect.objectContaining({ field: 'addressId' })],
        detail: 'Projects: links are built on http://one.saltmarsh.example:8080.',
      }),
    ]);
    expect((await rails({ addresses: [plan] })).body).toMatchObject({ code: 'address.gone' });
    // Its links are moved away where whoever looks after Reach does not ask for guardrails.
    const move = (from: string, to: string) => iris.ask('POST', `/api/reach/addresses/${from}/links/move`, { to });
    await move(one, other);
    expect(await inside(share.link)).toMatchObject({ status: 410, code: 'share.barred' });
    expect((await sheet(share.id)).railFaults).toMatchObject([{ fix: { change: 'address', addressId: one } }]);
    expect((await change(share.id, { addressId: one })).status).toBe(200);
    expect(await inside(share.link)).toMatchObject({ status: 200 });
    await move(one, other);
    const kept = await iris.ask<ProblemBody>('DELETE', `/api/reach/addresses/${one}`);
    expect([kept.status, kept.body.code]).toEqual([409, 'address.in-guardrail']);
    await rails({}, await projects());
    expect((await iris.ask('DELETE', `/api/reach/addresses/${one}`)).status).toBe(204);
  });

  it('is published by somebody with a second factor', async () => {
    await rails({ factorNeeded: true });
    const answer = await publish({}, tomas);
    expect([answer.status, answer.body]).toEqual([403, expect.objectContaining({ code: 'guardrail.factorNeeded' })]);
    expect((await tomas.ask<GuardrailsFor>('POST', '/api/guardrails/for', { nodeIds: [plan] })).body).toMatchObject({
      hasFactor: false,
      guardrails: [{ of: null, rails: { factorNeeded: true } }],
    });
  });

  it('is told of the rules of what somebody sees, and of no store besides', async () => {
    await rails({ mostVisits: 7 }, await projects());
    const of = async (by: Client, nodeIds: string[]) =>
      (await by.ask<GuardrailsFor>('POST', '/api/guardrails/for', { nodeIds })).body.guardrails.map((g) => g.of);
    await rails({ endNeeded: true });
    expect(await of(iris, [plan])).toEqual([null, 'Projects']);
    expect(await of(iris, [])).toEqual([null]);
    expect(await of(iris, [office.roots.tomas])).toEqual([null]);
  });
});

describe('a share that is out', () => {
  it('is closed at once by a rule it does not keep to, for those inside too, and opens when it does', async () => {
    const { body: share } = await publish({ window: { opensAt: null, closesAt: null } });
    const visit = await inside(share.link);
    expect(await visit.take()).toBe(200);
    await rails({ endNeeded: true });
    // Before any job was done: a door asks for itself.
    expect(await visit.take()).toBe(410);
    expect(await inside(share.link)).toMatchObject({ status: 410, code: 'share.barred' });
    expect(await door(share.link)).toMatchObject({ state: 'closed', barred: true });
    const { state, barredAt, railFaults, history } = await sheet(share.id);
    expect([state, barredAt]).toEqual(['closed', office.clock.date().toISOString()]);
    expect(railFaults).toMatchObject([{ rail: 'endNeeded', fix: { change: 'closes' } }]);
    expect(history[0]).toMatchObject({ kind: 'share.barred', who: 'Lockfast Quay' });
    // It is still wanted: its item is not removed for good.
    const fix = railFaults[0]?.fix;
    if (fix?.change !== 'closes') throw new Error('no change is proposed');
    const mended = await change(share.id, {
      window: { opensAt: null, closesAt: new Date(fix.closesAt).toISOString() },
    });
    expect(mended.body).toMatchObject({ state: 'open', barredAt: null, railFaults: [] });
    expect((await inside(share.link)).status).toBe(200);
    expect((await sheet(share.id)).history.map((h) => h.kind)).toContain('share.unbarred');
  });

  it('may be changed while it does not keep to a rule, but not so that it breaks another', async () => {
    const { body: share } = await publish({ window: { opensAt: null, closesAt: null } });
    await rails({ endNeeded: true, mostVisits: 5, levels: ['download'] });
    expect((await change(share.id, { title: 'Renamed' })).status).toBe(200);
    expect((await change(share.id, { visitLimit: 4 })).body.railFaults.map((f) => f.rail)).toEqual(['endNeeded']);
    expect((await change(share.id, { visitLimit: 6 })).body).toMatchObject({ code: 'guardrail.mostVisits' });
    expect((await change(share.id, { may: { ...MAY_DOWNLOAD, level: 'edit' } })).status).toBe(400);
    expect((await sheet(share.id)).visitLimit).toBe(4);
    // An end is put to it in any case.
    expect((await change(share.id, { withdrawn: true })).status).toBe(200);
  });

  it('is told of to its publisher and on Today, in every list and count, and opens when the rule is taken back', async () => {
    await office.db.query(`UPDATE person SET notices = '{share-barred}' WHERE sign_in_name = 'iris'`);
    const { body: share } = await publish({ title: 'Barred one' });
    await rails({ passwordNeeded: true });
    await settled();
    office.app.get(Mail).hurry();
    const told = () => mailbox.mails.filter((m) => m.subject === 'A share of yours was closed by a rule');
    await vi.waitFor(() => expect(told().some((m) => m.text?.includes('Barred one'))).toBe(true), 60_000);
    const span = `from=${new Date(office.clock.now()).toISOString()}&to=${new Date(office.clock.now() + DAY).toISOString()}`;
    const today = (await iris.ask<SharesToday>('GET', `/api/shares/today?${span}`)).body;
    expect(today.needing).toContainEqual(
      expect.objectContaining({ kind: 'barred', share: expect.objectContaining({ id: share.id }) as object }),
    );
    const closed = async () =>
      (await iris.ask<{ shares: { id: string }[] }>('GET', '/api/shares?state=closed')).body.shares.map((s) => s.id);
    expect(await closed()).toContain(share.id);
    await rails({});
    await settled();
    expect(await closed()).not.toContain(share.id);
    expect((await inside(share.link)).status).toBe(200);
  });

  it('made or changed while the rules are, is never open by those of before', async () => {
    const end = (at: number | null) => ({ opensAt: null, closesAt: at === null ? null : new Date(at).toISOString() });
    for (let round = 0; round < 8; round += 1) {
      const { body: before } = await publish({ window: end(office.clock.now() + DAY) });
      const [made, changed] = await Promise.all([
        publish({ window: end(null) }),
        change(before.id, { window: end(null) }),
        rails({ endNeeded: true }),
      ]);
      for (const { status, body } of [made, changed])
        if (status < 300) expect((await inside(body.link)).code).toBe('share.barred');
        else expect(body).toMatchObject({ code: 'guardrail.endNeeded' });
      await rails({});
    }
  });

  it('is judged anew when it gets an item of another store, moves there, or loses its publisher', async () => {
    await rails({ passwordNeeded: true }, await projects());
    const { body: own } = await iris.upload(office.roots.iris, 'own.txt', Buffer.from('own'));
    const made = await iris.ask<ShareSheet>('POST', '/api/shares', asked({ nodeIds: [own.id] }));
    expect(made.status).toBe(201);
    const added = await change(made.body.id, { items: { add: [plan], addFrozen: [], takeOff: [] } });
    expect(added.body).toMatchObject({ code: 'guardrail.passwordNeeded' });
    expect((await inside(made.body.link)).status).toBe(200);
    await iris.ask('POST', '/api/nodes/move', { nodeIds: [own.id], toFolderId: office.roots.projects, widens: true });
    expect((await inside(made.body.link)).code).toBe('share.barred');
  });
});

describe('what other guardrails would do', () => {
  it('is told before they are kept, by name but for homes of others; nothing is changed by it', async () => {
    const { body: share } = await publish({ title: 'Trial one', window: { opensAt: null, closesAt: null } });
    const { body: own } = await tomas.upload(office.roots.tomas, 'own.txt', Buffer.from('own'));
    await tomas.ask('POST', '/api/shares', {
      ...asked({ nodeIds: [own.id], title: 'From a home' }),
      window: { opensAt: null, closesAt: null },
    });
    const trial = async (part: Partial<GuardrailsAsked>, of = 'office') =>
      (await iris.ask<GuardrailTrial>('POST', `/api/guardrails/${of}/trial`, { ...NONE, ...part })).body;
    const found = await trial({ endNeeded: true });
    expect(found.closes).toContainEqual(
      expect.objectContaining({ id: share.id, title: 'Trial one', words: 'The office: a share has an end.' }),
    );
    expect(JSON.stringify(found)).not.toContain('From a home');
    expect(found.closes.filter((s) => s.title === null)).toHaveLength(1);
    const ofStore = await trial({ endNeeded: true }, await projects());
    expect(ofStore.closes.map((s) => s.title)).not.toContain(null);
    expect((await trial({})).closes).toEqual([]);
    expect((await sheet(share.id)).state).toBe('open');
    await rails({ endNeeded: true });
    await settled();
    expect((await trial({})).opens).toBeGreaterThanOrEqual(2);
  });

  it('is for who runs the server, and a rule that lets nothing be shared is refused', async () => {
    expect((await rails({ endNeeded: true }, 'office', tomas)).status).toBe(403);
    expect((await tomas.ask('POST', '/api/guardrails/office/trial', NONE)).status).toBe(403);
    expect((await tomas.ask('GET', '/api/guardrails')).status).toBe(403);
    expect((await rails({ audiences: [] })).status).toBe(400);
    expect((await rails({ domains: ['fenway'] })).status).toBe(400);
    expect((await rails({}, '01a211be-c2fa-7c9a-b984-1d94ebe6d8c2')).status).toBe(404);
    expect((await rails({}, 'elsewhere')).status).toBe(400);
  });
});
