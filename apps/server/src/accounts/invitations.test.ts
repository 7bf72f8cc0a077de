import type { Invitation } from '@quay/contract';
import { simpleParser, type ParsedMail } from 'mailparser';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Mail } from '../platform/mail.js';
import { GuestsService } from './guests.service.js';

const DAY_MS = 86_400_000;
let office: TestOffice;
let iris: Client;
const mails: ParsedMail[] = [];
const smtp = new SMTPServer({
  disabledCommands: ['AUTH', 'STARTTLS'],
  onData: (stream, _session, done) => void simpleParser(stream).then((mail) => (mails.push(mail), done())),
});

beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  office = await openOffice({ smtpUrl: `smtp://127.0.0.1:${(smtp.server.address() as AddressInfo).port}` });
  // The queue waits by PostgreSQL's clock.
  office.clock.at = Date.now();
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
});
beforeEach(() => {
  mails.length = 0;
});

const came = (count: number) => vi.waitFor(() => expect(mails).toHaveLength(count), 60_000);
const linkIn = (mail: ParsedMail | undefined): string => /\/password\/(\w+)/.exec(mail?.text ?? '')?.[1] ?? '';

describe('an invitation by mail', () => {
  it('brings its link to the person, who begins by it', async () => {
    const { body } = await iris.ask<Invitation>('POST', '/api/people', {
      ...{ name: 'Zoe Calder', signInName: 'zoe', email: 'zoe@calder.example' },
    });
    expect(body.mailedTo).toBe('zoe@calder.example');
    await came(1);
    expect(mails[0]?.subject).toMatch(/^Your account at Saltmarsh/);
    expect(mails[0]?.text).toContain('Iris Ward has made an account for you');
    const at = `/api/password-links/${linkIn(mails[0])}`;
    expect((await office.client().ask('POST', at, { password: 'copper-weir-oar-lantern' })).status).toBe(204);
  });
  it('of somebody who is here already goes to them alone, when who sends it is no admin', async () => {
    await office.db.query(`UPDATE person SET duties = duties || '{run-people}' WHERE sign_in_name = 'tomas'`);
    const tomas = await office.signedIn('tomas');
    const [zoe] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'zoe'`);
    const { body } = await tomas.ask<Invitation>('POST', `/api/people/${zoe?.id}/invitation`, { by: 'link' });
    expect([body.link, body.mailedTo]).toEqual([null, 'zoe@calder.example']);
    await came(1);
    expect(linkIn(mails[0])).not.toBe('');
  });
});

describe('a guest whose account ends soon', () => {
  it('is told once, and so is whoever answers for them; once more when it ends another day', async () => {
    const folderId = office.roots.projects;
    const guest = { name: 'Marek Hale', email: 'm.hale@fenway.example', folderId, level: 'view', quietDays: null };
    const endsAt = new Date(office.clock.now() + 5 * DAY_MS).toISOString();
    const { body } = await iris.ask<Invitation>('POST', '/api/guests', { ...guest, endsAt });
    await came(1);
    const guests = office.app.get(GuestsService);
    const round = async () => {
      mails.length = 0;
      await guests.round();
      office.app.get(Mail).hurry();
    };
    await round();
    expect(mails).toHaveLength(0);
    office.clock.advance(2.5 * DAY_MS);
    await round();
    await came(2);
    expect(mails.map((m) => [m.to, m.subject?.replace(/ ends .*/, '')].flat()).flat()).toContain(
      'The account of Marek Hale',
    );
    await round();
    expect(mails).toHaveLength(0);
    iris = await office.signedIn('iris');
    const later = new Date(office.clock.now() + 2 * DAY_MS).toISOString();
    await iris.ask('PATCH', `/api/people/${body.personId}`, { endsAt: later });
    await round();
    await came(2);
  });
});
