import type { HandOvers, ShareSheet } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Answer, type Client, type TestOffice } from '../_fixtures/office.js';
import { Mail } from '../platform/mail.js';

let mailbox: Mailbox;
let office: TestOffice;
let tomas: Client;
let rosa: Client;
let share: ShareSheet & { token: string };
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  // The queue goes by the machine's clock.
  office.clock.at = Date.now();
  [tomas, rosa] = await Promise.all([office.signedIn('tomas'), office.signedIn('rosa')]);
  const { id } = (await tomas.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body;
  share = await office.publish(tomas, [id], { title: 'Mill Lane & "tender" <drawings>' });
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});

const at = (rest = '') => `/api/shares/${share.id}/hand-overs${rest}`;
const of = async (by = tomas) => (await by.ask<HandOvers>('GET', at())).body;
const send = (part: object = {}, by = tomas): Promise<Answer<HandOvers>> =>
  by.ask<HandOvers>('POST', at('/mail'), {
    sendingId: randomUUID(),
    ...{ to: ['lena@mill.example'], subject: '{{title}} from {{sender}}', text: 'Dear Lena,\n\n{{link}}\n\n{{items}}' },
    ...part,
  });
const arrived = async (count: number) => {
  office.app.get(Mail).hurry();
  await vi.waitFor(() => expect(mailbox.mails).toHaveLength(count), 60_000);
  return mailbox.mails.splice(0);
};
const sentTo = async (recipient: string, state: string) =>
  vi.waitFor(async () => expect((await of()).rows.find((r) => r.recipient === recipient)?.state).toBe(state), 60_000);

describe('the link by mail', () => {
  it('reaches each by themselves, as text and as HTML, with an answer that goes to whoever sent it', async () => {
    const answer = await send({ to: ['Lena@Mill.example', 'ash@quarry.example', 'lena@mill.example'] });
    expect(answer.status).toBe(200);
    const mails = await arrived(2);
    expect(new Set(mails.map((m) => (m.to as { text: string }).text))).toEqual(
      new Set(['lena@mill.example', 'ash@quarry.example']),
    );
    const [mail] = mails;
    expect(mail?.subject).toBe('Mill Lane & "tender" <drawings> from Tomas Osei');
    expect([mail?.from?.text, mail?.replyTo?.text]).toEqual([
      '"Tomas Osei, Saltmarsh Survey" <quay@saltmarsh.example>',
      'tomas@saltmarsh.example',
    ]);
    expect(mail?.text).toContain(`Dear Lena,\n\n${share.link}\n\nplan.pdf`);
    expect(mail?.html).toContain(`href="${share.link}"`);
    await sentTo('lena@mill.example', 'sent');
    const { rows } = await of();
    expect(rows).toHaveLength(2);
    expect(rows[0]).toMatchObject({ what: 'link', channel: 'mail', by: 'Tomas Osei', outdated: [] });
    expect(rows[0]?.answer).toMatch(/^250/);
    // Whoever runs the server sees that it went, and not what it is about.
    const iris = await office.signedIn('iris');
    const work = JSON.stringify((await iris.ask<{ mail: unknown }>('GET', '/api/work')).body.mail);
    expect(work).toContain('A link of Tomas Osei');
    expect(work).not.toContain('Mill Lane');
    // What has gone out is kept by nobody but whom it was for.
    expect(await office.db.query(`SELECT body, html FROM mail WHERE recipient = 'ash@quarry.example'`)).toEqual([
      { body: '', html: null },
    ]);
    const sheet = (await tomas.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(sheet.history[0]?.words).toMatch(
      /^handed the link of .* over to lena@mill.example and ash@quarry.example by mail$/,
    );
  });

  it('is sent once, however often the same press arrives, also at the same moment', async () => {
    const sendingId = randomUUID();
    const both = await Promise.all([
      send({ sendingId, to: ['once@mill.example'] }),
      send({ sendingId, to: ['once@mill.example'] }),
    ]);
    expect(both.map((b) => b.status)).toEqual([200, 200]);
    await send({ sendingId, to: ['once@mill.example', 'more@mill.example'] });
    expect((await arrived(2)).map((m) => (m.to as { text: string }).text).sort()).toEqual([
      'more@mill.example',
      'once@mill.example',
    ]);
    // Meant once more, it is another sending.
    await send({ to: ['once@mill.example'], copyToMe: true });
    expect((await arrived(2)).map((m) => (m.to as { text: string }).text).sort()).toEqual([
      'once@mill.example',
      'tomas@saltmarsh.example',
    ]);
  });

  it('is refused as a whole where something is wrong with it, at its field', async () => {
    const refusal = async (part: object) => {
      const { status, body } = await send(part);
      return [status, body.errors?.[0]?.field, body.code];
    };
    expect(await refusal({ text: 'No way in' })).toEqual([400, 'text', 'message.no-link']);
    expect(await refusal({ text: '{{link}} {{name}}' })).toEqual([400, 'text', 'message.unknown-placeholder']);
    expect(await refusal({ subject: '' })).toEqual([400, 'subject', 'message.empty']);
    for (const wrong of ['nobody', 'a@b@c', 'a@b.example\r\nBcc: c@d.example', 'a@b.example, c@d.example'])
      expect(await refusal({ to: ['lena@mill.example', wrong] }), wrong).toEqual([400, 'to.1', 'recipient.address']);
    expect((await send({ to: [] })).status).toBe(400);
    expect((await send({ to: Array.from({ length: 101 }, (_, n) => `a${n}@mill.example`) })).status).toBe(400);
    expect(mailbox.mails).toEqual([]);
  });

  it('carries nothing beside what was written: no header, no other recipient, no tag', async () => {
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { title: 'Plans <img src=x> {{link}}' });
    await send({ subject: '{{title}}\r\nBcc: c@d.example', to: ["o'dd+name@mill.example"] });
    const [mail] = await arrived(1);
    expect(mail?.subject).toBe('Plans <img src=x> {{link}} Bcc: c@d.example');
    expect([mail?.bcc, mail?.cc]).toEqual([undefined, undefined]);
    expect(mail?.html).not.toContain('<img');
  });

  it('says what the mail server refused, and what of it is not true any more', async () => {
    await tomas.ask('PATCH', `/api/shares/${share.id}`, {
      window: { opensAt: null, closesAt: new Date(office.clock.now() + 20 * 86_400_000).toISOString() },
      password: 'gravel-heron-silent-oar',
    });
    const row = (await of()).rows.find((r) => r.recipient === 'lena@mill.example');
    expect(row?.outdated).toEqual([expect.stringMatching(/^open until /), 'with a password']);
    expect((await of()).values['password-note']).toMatch(/another way/);
    await send({ to: ['late@mill.example'] });
    await arrived(1);
    expect((await of()).rows[0]).toMatchObject({ recipient: 'late@mill.example', outdated: [] });
  });

  it('is for whoever may publish and sees the share, while somebody could get in by it', async () => {
    expect((await send({}, rosa)).status).toBe(404);
    expect((await rosa.ask('GET', at())).status).toBe(404);
    expect((await send({}, office.client())).status).toBe(401);
    await office.db.query(`UPDATE person SET duties = '{}' WHERE sign_in_name = 'tomas'`);
    expect((await send()).body.code).toBe('duty.missing');
    await office.db.query(
      `UPDATE person SET duties = (SELECT duties FROM person WHERE sign_in_name = 'rosa') WHERE sign_in_name = 'tomas'`,
    );
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect(await send()).toMatchObject({ status: 409, body: { code: 'share.over' } });
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: false });
    expect(mailbox.mails).toEqual([]);
  });

  it('floods nobody: so many in an hour, and no more', async () => {
    const [me] = await office.db.query<[{ id: string }]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`);
    await office.db.query(
      `INSERT INTO hand_over (id, share_id, what, channel, recipient, sending_id, by_id, at, told)
       SELECT gen_random_uuid(), $1, 'link', 'mail', n || '@mill.example', gen_random_uuid(), $2, $3, '{"window": {}}'
         FROM generate_series(1, 495) n`,
      [share.id, me.id, office.clock.date()],
    );
    expect(await send()).toMatchObject({ status: 429, body: { code: 'hand-over.too-many' } });
    await office.db.query(`DELETE FROM hand_over WHERE told = '{"window": {}}'`);
  });
});

describe('what somebody did by themselves', () => {
  const note = (part: object) =>
    tomas.ask<HandOvers>('POST', at(), {
      what: 'password',
      channel: 'telephone',
      to: ['lena@mill.example'],
      ...part,
    });

  it('is written down, and the same way for link and password only where it is meant', async () => {
    expect((await note({})).body.rows[0]).toMatchObject({ what: 'password', channel: 'telephone', state: 'done' });
    const same = { channel: 'own-mail', to: ['Lena@mill.example'] };
    expect(await note(same)).toMatchObject({ status: 400, body: { code: 'hand-over.same-way' } });
    expect((await note({ ...same, to: ['ash@nowhere.example'] })).status).toBe(200);
    expect((await note({ ...same, sameWayMeant: true })).status).toBe(200);
    const sheet = (await tomas.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(sheet.history[0]).toMatchObject({ kind: 'share.handed-over-same-way' });
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { password: 'kestrel-pebble-thistle-cart' });
    expect((await of()).rows.find((r) => r.what === 'password')?.outdated).toEqual(['another password']);
  });

  it('is no mail of the office, which writes itself down', async () => {
    expect((await note({ channel: 'mail' })).status).toBe(400);
    expect((await note({ what: 'key' })).status).toBe(400);
  });
});

it('says that there is no mail server, where there is none', async () => {
  const other = await openOffice();
  try {
    const iris = await other.signedIn('iris');
    const { id } = (await iris.upload(other.roots.projects, 'plan.pdf', Buffer.from('x'))).body;
    const made = await other.publish(iris, [id]);
    const path = `/api/shares/${made.id}/hand-overs`;
    expect((await iris.ask<HandOvers>('GET', path)).body).toMatchObject({ canMail: false, rows: [] });
    const asked = { sendingId: randomUUID(), to: ['a@mill.example'], subject: 'x', text: '{{link}}' };
    expect(await iris.ask('POST', `${path}/mail`, asked)).toMatchObject({ status: 409, body: { code: 'mail.none' } });
  } finally {
    await other.close();
  }
});
