import { NO_GUARDRAILS } from '@quay/core';
import type {
  CodeAsked,
  KnownRecipient,
  ProblemBody,
  ShareSheet,
  TextGatewayAsked,
  TextGatewaySettings,
  TextTrialAnswer,
  VisitorDoor,
} from '@quay/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { openGateway, type Gateway } from '../_fixtures/text-gateway.js';
import { TextMessages } from '../platform/text-messages.js';

const NONE = NO_GUARDRAILS;
const NUMBER = '+447700900123';
const SECRET = 'weir&lantern';
let gateway: Gateway;
let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  gateway = await openGateway();
  office = await openOffice();
  // The queue goes by PostgreSQL's clock.
  office.clock.at = Date.now();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(async () => {
  await office.close();
  await gateway.close();
});
beforeEach(() => {
  // Attempts are counted by the hour and the minute.
  office.clock.advance(61 * 60_000);
  gateway.asked.length = 0;
  gateway.says = { status: 202, body: '{"result":"taken"}' };
});

const asked = (part: Partial<TextGatewayAsked> = {}): TextGatewayAsked => ({
  ...{ url: gateway.url, format: 'form', headers: [], secret: SECRET },
  fields: [
    { name: 'key', value: '{secret}' },
    { name: 'recipient', value: '{to}' },
    { name: 'message', value: '{text}' },
  ],
  ...part,
});
const keep = (part: Partial<TextGatewayAsked> = {}, by = iris) =>
  by.ask<TextGatewaySettings & ProblemBody>('PUT', '/api/settings/text-messages', asked(part));
const publish = async (part: object) => {
  const audience = { kind: 'listed', listed: [], blocked: [], members: [], ...part };
  const share = await office.publish(iris, [], { audience });
  return `/s/${share.token}`;
};
const door = async (path: string) => (await office.client().ask<VisitorDoor>('GET', `${path}/door`)).body;
const askCode = (visitor: Client, path: string, address: string) =>
  visitor.ask<CodeAsked & ProblemBody>('POST', `${path}/code`, { address, password: null });
/** What the gateway was last asked to send. */
const sent = () =>
  vi.waitFor(() => {
    office.app.get(TextMessages).hurry();
    const last = gateway.asked.at(-1);
    if (!last) throw new Error('nothing was sent');
    return new URLSearchParams(last.body);
  }, 60_000);
const state = async () =>
  (
    await office.db.query<{ state: string; body: string; answer: string }[]>(
      'SELECT state, body, answer FROM text_message ORDER BY created_at DESC, id DESC LIMIT 1',
    )
  )[0];

describe('a gateway for text messages', () => {
  it('is named by whoever runs the server; its secret is told to nobody', async () => {
    expect((await iris.ask<TextGatewaySettings>('GET', '/api/settings/text-messages')).body).toEqual({
      gateway: null,
      hasSecret: false,
    });
    const { body, status } = await keep();
    expect([status, body.hasSecret, JSON.stringify(body).includes('weir')]).toEqual([200, true, false]);
    expect((await keep({}, tomas)).status).toBe(403);
    expect((await keep({ url: 'http://texts.example/send' })).body).toMatchObject({
      code: 'gateway.url',
      errors: [{ field: 'url' }],
    });
    expect((await keep({ fields: [] })).body.code).toBe('gateway.fields');
    const [row] = await office.db.query<{ sealed: Buffer }[]>('SELECT secret_sealed AS sealed FROM text_gateway');
    expect(row?.sealed.includes('weir')).toBe(false);
  });

  it('is tried with a real message, and what it says is told without the secret', async () => {
    const trial = (part: object = {}) =>
      iris.ask<TextTrialAnswer & ProblemBody>('POST', '/api/settings/text-messages/trial', {
        ...asked(part as Partial<TextGatewayAsked>),
        to: '+44 7700 900123',
        ...part,
      });
    expect((await trial()).body).toEqual({ sent: true, words: '202 {"result":"taken"}' });
    expect(Object.fromEntries(new URLSearchParams(gateway.asked[0]?.body))).toMatchObject({
      key: SECRET,
      recipient: NUMBER,
      message: expect.stringContaining('A test message'),
    });
    gateway.says = { status: 401, body: `that is not the key: ${SECRET}` };
    expect((await trial()).body).toEqual({ sent: false, words: '401 that is not the key: …' });
    // What leads elsewhere is not followed: the secret is for it alone.
    gateway.says = { status: 307, body: '', headers: { Location: gateway.url } };
    const before = gateway.asked.length;
    expect((await trial()).body.sent).toBe(false);
    expect(gateway.asked.length).toBe(before + 1);
    expect((await trial({ to: '07700 900123' })).body.code).toBe('recipient.number');
  });

  it('that is somewhere else is not sent the secret that is kept', async () => {
    await keep();
    const other = await openGateway();
    const { secret: _, ...without } = asked({ url: other.url });
    await iris.ask('POST', '/api/settings/text-messages/trial', { ...without, to: NUMBER });
    expect(new URLSearchParams(other.asked[0]?.body).get('key')).toBe('');
    const { secret: __, ...same } = asked();
    await iris.ask('POST', '/api/settings/text-messages/trial', { ...same, to: NUMBER });
    expect(new URLSearchParams(gateway.asked[0]?.body).get('key')).toBe(SECRET);
    await other.close();
  });
});

describe('a share for telephone numbers', () => {
  it('opens to whoever proves a number of the list, by a code that is sent there', async () => {
    await keep();
    const path = await publish({ listed: ['+44 7700 900123'] });
    expect(await door(path)).toMatchObject({ needsCode: true, takesNumbers: true });
    const visitor = office.client();
    const { body, status } = await askCode(visitor, path, '0044 7700 900 123');
    expect([status, body.address]).toEqual([200, NUMBER]);
    const form = await sent();
    expect(form.get('recipient')).toBe(NUMBER);
    const code = /^(\d{6}) is your code/.exec(form.get('message') ?? '')?.[1];
    const opened = await visitor.ask<VisitorDoor>('POST', `${path}/open`, {
      ...{ password: null, address: body.address, ticket: body.ticket, code },
    });
    expect([opened.status, opened.body.you]).toEqual([200, NUMBER]);
    // What has been sent is kept by nobody else.
    await vi.waitFor(async () => expect(await state()).toMatchObject({ state: 'sent', body: '' }), 60_000);
    const known = (await iris.ask<KnownRecipient[]>('GET', '/api/shares/recipients')).body;
    expect(known.map((k) => k.entry)).toContain(NUMBER);
  });

  it('tells nothing of whether a number is listed, and sends nothing to one that is not', async () => {
    await keep();
    const path = await publish({ listed: [NUMBER], blocked: ['+44 7700 900999'] });
    for (const number of ['+44 7700 900124', '+44 7700 900999']) {
      const { status, body } = await askCode(office.client(), path, number);
      expect([status, body.minutes]).toEqual([200, 10]);
    }
    office.app.get(TextMessages).hurry();
    await askCode(office.client(), path, NUMBER);
    await sent();
    expect(gateway.asked.map((a) => new URLSearchParams(a.body).get('recipient'))).toEqual([NUMBER]);
  });

  it('says when no codes can be sent, and what is no number', async () => {
    await iris.ask('DELETE', '/api/settings/text-messages');
    const path = await publish({ kind: 'verified' });
    expect((await door(path)).takesNumbers).toBe(false);
    expect((await askCode(office.client(), path, NUMBER)).body.code).toBe('texts.none');
    expect((await askCode(office.client(), path, '07700 900123')).body.code).toBe('recipient.address');
  });

  it('is sent so many codes in an hour from one source, whatever numbers are asked for', async () => {
    await keep();
    const path = await publish({ listed: [NUMBER] });
    const visitor = office.client();
    const answers: number[] = [];
    for (let n = 0; n < 22; n += 1) {
      answers.push((await askCode(visitor, path, `+44 7700 9002${String(n).padStart(2, '0')}`)).status);
      office.clock.advance(2000);
    }
    expect(answers.filter((status) => status === 200)).toHaveLength(20);
    expect(answers.slice(-2)).toEqual([429, 429]);
  });

  it('has a message that a gateway refuses given up at once, and its words kept', async () => {
    await keep();
    gateway.says = { status: 422, body: 'recipient is no number' };
    await askCode(office.client(), await publish({ listed: [NUMBER] }), NUMBER);
    await sent();
    await vi.waitFor(
      async () =>
        expect(await state()).toMatchObject({ state: 'refused', body: '', answer: '422 recipient is no number' }),
      60_000,
    );
  });

  it('keeps to guardrails: a number is in none of the domains that lists may hold', async () => {
    const rails = (domains: string[]) => iris.ask('PUT', '/api/guardrails/office', { ...NONE, domains, addresses: [] });
    await rails(['fenway.example']);
    const audience = { kind: 'listed', listed: [NUMBER, 'm@fenway.example'], blocked: [], members: [] };
    const window = { opensAt: null, closesAt: null };
    const answer = await iris.ask<ShareSheet & ProblemBody>('POST', '/api/shares', {
      ...{ title: 'Plans', message: '', nodeIds: [], password: null, visitLimit: null, window, audience },
    });
    expect(answer.body.code).toBe('guardrail.domains');
    await rails([]);
  });
});
