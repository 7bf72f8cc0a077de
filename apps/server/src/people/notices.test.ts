import type { OwnNotices } from '@quay/contract';
import type { NoticeKind } from '@quay/core';
import { simpleParser, type ParsedMail } from 'mailparser';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { MorningNotice } from '../health/morning-notice.js';
import { Mail } from '../platform/mail.js';
import { RefusalsService } from '../visits/refusals.service.js';
import { NoticesService } from './notices.service.js';

const DAY_MS = 86_400_000;
let office: TestOffice;
let tomas: Client;
let file: string;
const mails: ParsedMail[] = [];
const smtp = new SMTPServer({
  disabledCommands: ['AUTH', 'STARTTLS'],
  onData: (stream, _session, done) => void simpleParser(stream).then((mail) => (mails.push(mail), done())),
});

// Times are the machine's: the queue is PostgreSQL's, and waits by its clock.
beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  office = await openOffice({ smtpUrl: `smtp://127.0.0.1:${(smtp.server.address() as AddressInfo).port}` });
  office.clock.at = Date.now();
  tomas = await office.signedIn('tomas');
  file = (await tomas.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
});
beforeEach(() => {
  mails.length = 0;
});

const choose = (by: Client, ...notices: NoticeKind[]) => by.ask<OwnNotices>('PUT', '/api/session/notices', { notices });
const came = (subject: string) => mails.filter((m) => m.subject === subject);
/** All that was handed in by now has gone out. */
async function sent(): Promise<void> {
  office.app.get(Mail).hurry();
  await vi.waitFor(async () => {
    expect(await office.db.query(`SELECT 1 FROM mail WHERE state = 'waiting'`)).toEqual([]);
  }, 60_000);
}

describe('notices', () => {
  it('are chosen by everybody for themselves; what is not theirs to be told of is left out', async () => {
    expect((await choose(tomas, 'share-opened', 'server')).body).toEqual({ notices: ['share-opened'], daily: false });
    expect((await tomas.ask<OwnNotices>('GET', '/api/session/notices')).body).toEqual({
      notices: ['share-opened'],
      daily: false,
    });
    const iris = await office.signedIn('iris');
    expect((await choose(iris, 'server')).body).toEqual({ notices: ['server'], daily: false });
    await choose(iris);
    expect((await tomas.ask('PUT', '/api/session/notices', { notices: ['everything'] })).status).toBe(400);
  });

  it('come when a share is opened for the first time, once, to whoever wants it; the subject names nothing', async () => {
    const open = async () => {
      const { token } = await office.publish(tomas, [file], { title: 'Mill Lane drawings' });
      for (let i = 0; i < 2; i += 1) await office.client().ask('POST', `/s/${token}/open`, { password: null });
      await sent();
    };
    await choose(tomas, 'share-opened');
    await open();
    expect(came('A share of yours was opened')).toHaveLength(1);
    expect(mails[0]?.text).toContain('Hello Tomas Osei,\n\nMill Lane drawings was opened for the first time just now.');
    mails.length = 0;
    await choose(tomas, 'share-closing');
    await open();
    expect(mails).toEqual([]);
  });

  it('come of what is taken once for each visit, of the last visit, and of refused tries hour by hour', async () => {
    await choose(tomas, 'share-taken', 'share-used-up', 'share-tried');
    const { token } = await office.publish(tomas, [file], {
      title: 'Levels',
      ...{ visitLimit: 1, password: 'gravel-heron-silent-oar' },
    });
    const visitor = office.client();
    for (const password of ['wrong', 'wrong too', 'gravel-heron-silent-oar'])
      await visitor.ask('POST', `/s/${token}/open`, { password });
    for (let n = 0; n < 2; n += 1) await visitor.fetch(`/s/${token}/files/${file}`);
    await visitor.fetch(`/s/${token}/all.zip`);
    await office.client().ask('POST', `/s/${token}/open`, { password: 'gravel-heron-silent-oar' });
    office.clock.advance(3_600_000);
    await office.app.get(RefusalsService).tell();
    office.clock.at = Date.now();
    await sent();
    expect(mails.map((m) => m.subject).sort()).toEqual([
      'Somebody was refused at a share of yours',
      'Something was taken from a share of yours',
      'The last visit of a share of yours was used',
    ]);
    expect(came('Something was taken from a share of yours')[0]?.text).toContain(
      'Somebody has taken plan.pdf from Levels.',
    );
    expect(came('Somebody was refused at a share of yours')[0]?.text).toMatch(
      /At Levels there were 3 refused tries in the hour from .*: 2 wrong password, 1 not open then\./,
    );
  });

  it('come in one mail a day, if that is wanted; that a share closes does not wait', async () => {
    const daily = await tomas.ask<OwnNotices>('PUT', '/api/session/notices', {
      notices: ['share-opened'],
      daily: true,
    });
    expect(daily.body.daily).toBe(true);
    const notices = office.app.get(NoticesService);
    office.clock.at = Date.parse('2027-01-11T09:00:00Z');
    tomas = await office.signedIn('tomas');
    for (const title of ['First', 'Second']) {
      const { token } = await office.publish(tomas, [file], { title });
      await office.client().ask('POST', `/s/${token}/open`, { password: null });
    }
    await notices.tellDay();
    await sent();
    expect(mails).toEqual([]);
    office.clock.at = Date.parse('2027-01-12T07:05:00Z');
    await Promise.all([notices.tellDay(), notices.tellDay()]);
    await sent();
    expect(mails.map((m) => m.subject)).toEqual(['2 things came of your shares']);
    expect(mails[0]?.text).toMatch(/- First was opened .*\n- Second was opened/);
    office.clock.at = Date.now();
    tomas = await office.signedIn('tomas');
    await tomas.ask('PUT', '/api/session/notices', { notices: [], daily: false });
  });

  it('come a day before a share closes, at the time that it has then; not when it is open for a moment only', async () => {
    await choose(tomas, 'share-closing');
    const closing = (ms: number, openedMs: number | null = null) => ({
      window: {
        opensAt: openedMs === null ? null : new Date(office.clock.now() - openedMs).toISOString(),
        closesAt: new Date(office.clock.now() + ms).toISOString(),
      },
    });
    await office.publish(tomas, [file], { title: 'Closes soon', ...closing(DAY_MS + 2000) });
    const later = await office.publish(tomas, [file], { title: 'Extended', ...closing(DAY_MS + 2000) });
    await tomas.ask('PATCH', `/api/shares/${later.id}`, closing(3 * DAY_MS));
    const withdrawn = await office.publish(tomas, [file], { title: 'Withdrawn', ...closing(DAY_MS + 2000) });
    await tomas.ask('PATCH', `/api/shares/${withdrawn.id}`, { withdrawn: true });
    await office.publish(tomas, [file], { title: 'Short', ...closing(DAY_MS + 2000, 3600_000) });
    await vi.waitFor(
      async () => {
        office.clock.at = Date.now();
        await sent();
        expect(came('A share of yours closes soon')).toHaveLength(1);
      },
      { timeout: 60_000, interval: 500 },
    );
    expect(mails[0]?.text).toMatch(
      /Closes soon closes \w{3} \d{1,2} \w{3}, \d\d:\d\d\. If it is to stay open, extend it\./,
    );
    await new Promise((r) => setTimeout(r, 1500));
    office.clock.at = Date.now();
    await sent();
    expect(mails).toHaveLength(1);
  });

  it('of the morning say what needs a look on the server, once a day, to those who run it and want it', async () => {
    const iris = await office.signedIn('iris');
    await choose(iris, 'server');
    const morning = office.app.get(MorningNotice);
    const at = async (time: string) => {
      office.clock.at = Date.parse(time);
      mails.length = 0;
      await Promise.all([morning.tell(), morning.tell()]);
      await sent();
      return mails.map((m) => [m.to && 'text' in m.to ? m.to.text : '', m.subject]);
    };
    const one = [
      ['iris@saltmarsh.example', expect.stringMatching(/^(One thing on the server needs|\d+ things need) a look$/)],
    ];
    expect(await at('2027-03-01T06:30:00Z')).toEqual([]);
    expect(await at('2027-03-01T07:10:00Z')).toEqual(one);
    expect(mails[0]?.text).toContain('- There is no backup yet');
    expect(await at('2027-03-01T12:10:00Z')).toEqual([]);
    expect(await at('2027-03-02T07:10:00Z')).toEqual(one);
    // Her session has ended meanwhile.
    await choose(await office.signedIn('iris'));
    expect(await at('2027-03-03T07:10:00Z')).toEqual([]);
  });
});
