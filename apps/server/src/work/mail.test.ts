import type { WorkList } from '@quay/contract';
import { simpleParser, type ParsedMail } from 'mailparser';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { Mail } from '../platform/mail.js';

// A mail server of another maker, which takes, refuses or puts off as it is told.
let answerWith: { code: number; words: string } | null = null;
/** Addresses that are refused. */
const unknown = new Set<string>();
/** So many messages are taken whole, and the connection ends before the answer. */
let breaksOff = 0;
const taken: ParsedMail[] = [];
const smtp = new SMTPServer({
  disabledCommands: ['AUTH', 'STARTTLS'],
  onRcptTo: ({ address }, _session, done) => {
    if (unknown.has(address)) return done(Object.assign(new Error('Nobody here'), { responseCode: 550 }));
    if (!answerWith) return done();
    done(Object.assign(new Error(answerWith.words), { responseCode: answerWith.code }));
  },
  onData: (stream, session, done) =>
    void simpleParser(stream).then((mail) => {
      taken.push(mail);
      if (breaksOff === 0) return done();
      breaksOff -= 1;
      for (const connection of smtp.connections) if (connection.session.id === session.id) connection._socket.destroy();
    }),
});

let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  office = await openOffice({ smtpUrl: `smtp://127.0.0.1:${(smtp.server.address() as AddressInfo).port}` });
  iris = await office.signedIn('iris');
});
beforeEach(() => {
  answerWith = null;
  taken.length = 0;
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
});

const handIn = (subject: string, fails = false) =>
  office.app
    .get(Events)
    .change(async (tx) => {
      await office.app.get(Mail).handIn(tx, { to: 'tomas@saltmarsh.example', subject, text: 'Hello.' });
      if (fails) throw new Error('the change was refused');
    })
    .then(() => office.app.get(Mail).hurry());
const list = async () => (await iris.ask<WorkList>('GET', '/api/work')).body;
const mailOf = async (subject: string) => (await list()).mail.find((m) => m.subject === subject);
async function ended(subject: string, state: string): Promise<void> {
  for (const late = Date.now() + 15_000; (await mailOf(subject))?.state !== state;) {
    if (Date.now() > late) throw new Error(`it is ${JSON.stringify(await mailOf(subject))}`);
    await new Promise((r) => setTimeout(r, 100));
  }
}

describe('mail', () => {
  it('is sent when and only when the change that causes it commits, and says how it ended', async () => {
    await handIn('Not this one', true).catch(() => undefined);
    await handIn('A notice');
    await ended('A notice', 'sent');
    expect(taken.map((m) => m.subject)).toEqual(['A notice']);
    expect(await mailOf('A notice')).toMatchObject({ to: 'tomas@saltmarsh.example', tries: 1 });
    expect((await mailOf('A notice'))?.answer).toMatch(/^250/);
    // It may hold a link, or a code: nobody keeps it but whom it was for.
    expect(await office.db.query(`SELECT body FROM mail WHERE subject = 'A notice'`)).toEqual([{ body: '' }]);
    expect(await mailOf('Not this one')).toBeUndefined();
  });
  it('that is refused for good (5xx, RFC 5321 §4.2.1) is not tried again by itself, and shows the server’s words', async () => {
    answerWith = { code: 550, words: 'No such mailbox here' };
    await handIn('To nobody');
    await ended('To nobody', 'refused');
    const mail = await mailOf('To nobody');
    expect([mail?.tries, mail?.answer]).toEqual([1, '550 No such mailbox here']);
    answerWith = null;
    expect((await iris.ask('POST', `/api/work/mail/${mail?.id}/again`)).status).toBe(200);
    await ended('To nobody', 'sent');
    expect(taken[0]?.messageId).toBe(`<${mail?.id}@saltmarsh.example>`);
  });
  /** The next try is due at once, instead of in minutes and hours. */
  const atOnce = async () => {
    await office.db.query(`UPDATE jobs.job SET start_after = now() WHERE name = 'mail' AND state = 'retry'`);
    office.app.get(Jobs).hurry('mail');
  };
  it('that is put off (4xx) is tried again later, given up in the end, and begun again by hand', async () => {
    answerWith = { code: 451, words: 'Try later' };
    await handIn('Put off');
    for (let tries = 1; tries <= 10; tries += 1) {
      for (const late = Date.now() + 10_000; ((await mailOf('Put off'))?.tries ?? 0) < tries;) {
        if (Date.now() > late) throw new Error(`after ${tries}: ${JSON.stringify(await list())}`);
        if (tries > 1) await atOnce();
        await new Promise((r) => setTimeout(r, 50));
      }
      if (tries === 1)
        expect((await list()).waiting.find((w) => w.kind === 'mail')).toMatchObject({
          words: 'Mail to tomas@saltmarsh.example: Put off',
          state: 'waiting',
          failure: expect.stringContaining('Try later') as string,
        });
    }
    await ended('Put off', 'given-up');
    const [job] = (await list()).givenUp;
    expect(job).toMatchObject({
      kind: 'mail',
      state: 'given-up',
      failure: expect.stringContaining('Try later') as string,
    });
    answerWith = null;
    expect((await iris.ask('POST', `/api/work/mail/${job?.id}/again`)).status).toBe(200);
    await ended('Put off', 'sent');
    expect((await iris.ask('POST', `/api/work/mail/${job?.id}/again`)).status).toBe(404);
  });
  it('that a process had which died is given back, and goes out once', async () => {
    answerWith = { code: 451, words: 'Try later' };
    await handIn('Left behind');
    const waits = () =>
      office.db.query<{ state: string }[]>(
        `SELECT state FROM jobs.job WHERE name = 'mail' AND data->>'subject' = 'Left behind'`,
      );
    await expect.poll(waits, { timeout: 60_000 }).toEqual([{ state: 'retry' }]);
    answerWith = null;
    // As whoever dies leaves it: taken up long ago, and never heard of again.
    await office.db.query(
      `UPDATE jobs.job SET state = 'active', started_on = now() - interval '1 hour' WHERE name = 'mail' AND state = 'retry'`,
    );
    const after = async () => (await atOnce(), (await mailOf('Left behind'))?.state);
    await expect.poll(after, { timeout: 50_000, interval: 200 }).toBe('sent');
    // Told again, as when the queue could not be told that it was done: it is not sent again.
    await office.db.query(
      `UPDATE jobs.job SET state = 'retry', start_after = now() WHERE name = 'mail' AND state = 'completed'`,
    );
    office.app.get(Jobs).hurry('mail');
    await expect.poll(() => office.app.get(Jobs).waiting('mail'), { timeout: 60_000 }).toBe(0);
    expect(taken.filter((m) => m.subject === 'Left behind')).toHaveLength(1);
  });

  it('that goes to many goes to each once, also where what became of one cannot be noted', async () => {
    const mail = office.app.get(Mail);
    unknown.add('reader3@mill.example');
    let notTold = 0;
    // Whoever is told of what was refused cannot take it, twice: with the others, and by itself.
    mail.onLost(() => (notTold++ < 2 ? Promise.reject(new Error('not now')) : Promise.resolve()));
    const people = Array.from({ length: 12 }, (_, n) => ({ to: `reader${n}@mill.example`, toName: '' }));
    const ids = await office.app
      .get(Events)
      .change((tx) => mail.handInAll(tx, { subject: 'To many', text: 'Hello.' }, people));
    expect(ids).toHaveLength(12);
    mail.hurry();
    const states = () =>
      office.db.query<{ state: string; n: number }[]>(
        `SELECT state, count(*)::int AS n FROM mail WHERE subject = 'To many' GROUP BY state ORDER BY state`,
      );
    await expect.poll(states, { timeout: 60_000 }).toEqual([
      { state: 'sent', n: 11 },
      { state: 'waiting', n: 1 },
    ]);
    const lost = async () => (await atOnce(), await states());
    await expect.poll(lost, { timeout: 60_000 }).toContainEqual({ state: 'refused', n: 1 });
    const to = taken.map((m) => (Array.isArray(m.to) ? '' : (m.to?.text ?? '')));
    expect(to.sort()).toEqual(
      people
        .map((p) => p.to)
        .filter((address) => !unknown.has(address))
        .sort(),
    );
  });

  it('that may have arrived already goes once more, under the same number, and says so', async () => {
    const twice = async (subject: string) =>
      (
        await office.db.query<{ twice: boolean }[]>('SELECT perhaps_twice AS twice FROM mail WHERE subject = $1', [
          subject,
        ])
      )[0]?.twice;
    const sent = async (subject: string) => (await atOnce(), (await mailOf(subject))?.state);
    // All of it came, and no answer: nobody here knows that it did (RFC 1047).
    breaksOff = 1;
    await handIn('Cut off');
    await expect.poll(() => sent('Cut off'), { timeout: 50_000, interval: 200 }).toBe('sent');
    const both = taken.filter((m) => m.subject === 'Cut off');
    expect(both.map((m) => m.messageId)).toEqual([both[0]?.messageId, both[0]?.messageId]);
    expect(await twice('Cut off')).toBe(true);
    // A server that was stopped in the middle of a try leaves it begun.
    answerWith = { code: 451, words: 'Try later' };
    await handIn('Stopped');
    await expect.poll(async () => (await mailOf('Stopped'))?.tries, { timeout: 60_000 }).toBe(1);
    expect(await twice('Stopped')).toBe(false);
    answerWith = null;
    await office.db.query(`UPDATE mail SET began = true WHERE subject = 'Stopped'`);
    await expect.poll(() => sent('Stopped'), { timeout: 50_000, interval: 200 }).toBe('sent');
    expect(await twice('Stopped')).toBe(true);
    expect(await twice('Left behind')).toBe(false);
  });
});
