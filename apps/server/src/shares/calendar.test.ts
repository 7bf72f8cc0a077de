import type { CalendarLink } from '@quay/contract';
import ICAL from 'ical.js';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { setDisabled } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let plan = '';
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(() => office.close());

const at = (days: number) => new Date(office.clock.now() + days * DAY).toISOString();
const link = async (by: Client, method = 'POST') => (await by.ask<CalendarLink>(method, '/api/calendar')).body.path;
/** Read by a parser of somebody else's (ical.js). */
async function events(path: string | null) {
  const answer = await office.client().fetch(path ?? '');
  expect([answer.status, answer.headers.get('content-type')]).toEqual([200, 'text/calendar; charset=utf-8']);
  const text = await answer.text();
  // RFC 5545 §3.1: lines of at most 75 octets, each ended by CRLF.
  for (const line of text.split('\r\n')) expect(Buffer.byteLength(line)).toBeLessThanOrEqual(75);
  const calendar = new ICAL.Component(ICAL.parse(text) as unknown[]);
  return calendar.getAllSubcomponents('vevent').map((part) => new ICAL.Event(part));
}

describe('the calendar of shares', () => {
  it('holds the windows of one’s own shares, at an address that only its owner is told', async () => {
    const title = 'Tender pack 3; drawings, levels and a title that is long enough for two lines – Größe';
    const share = await office.publish(iris, [plan], { title, window: { opensAt: at(1), closesAt: at(8) } });
    const endless = await office.publish(iris, [plan], { title: 'Endless', window: { opensAt: null, closesAt: null } });
    const gone = await office.publish(iris, [plan], { title: 'Withdrawn' });
    await iris.ask('PATCH', `/api/shares/${gone.id}`, { withdrawn: true });
    await office.publish(tomas, [plan], { title: 'Of Tomas' });
    expect(await link(iris, 'GET')).toBe(null);
    const path = await link(iris);
    expect(path).toMatch(/^\/calendar\/[0-9A-Za-z]{22}\.ics$/);
    const found = await events(path);
    expect(found.map((e) => e.summary).sort()).toEqual(['Endless', title]);
    const event = found.find((e) => e.summary === title);
    expect([event?.startDate.toJSDate().toISOString(), event?.endDate.toJSDate().toISOString()]).toEqual([
      at(1),
      at(8),
    ]);
    expect([event?.uid, event?.description]).toEqual([`${share.id}@127.0.0.1`, 'scheduled, 0 visits']);
    // Nothing by which somebody gets in.
    expect(JSON.stringify(found.map((e) => e.component.toJSON()))).not.toContain(share.token);
    expect(endless.closesAt).toBe(null);
  });

  it('ends with a new address, with none, and with the account', async () => {
    const first = await link(tomas);
    const second = await link(tomas);
    const status = async (path: string | null) => (await office.client().fetch(path ?? '')).status;
    expect([await status(first), await status(second)]).toEqual([404, 200]);
    await tomas.ask('DELETE', '/api/calendar');
    expect([await status(second), await link(tomas, 'GET')]).toEqual([404, null]);
    const third = await link(tomas);
    await setDisabled(office.db, office.clock.date(), 'tomas', true);
    expect(await status(third)).toBe(404);
    const dump = JSON.stringify(
      await office.db.query("SELECT encode(token_sealed, 'escape') AS sealed FROM calendar_link"),
    );
    expect(dump).not.toContain(third?.slice(10, -4));
  });

  it('cannot be searched for', async () => {
    const codes = [];
    for (let n = 0; n < 62; n += 1) codes.push((await office.client().fetch(`/calendar/guess${n}.ics`)).status);
    expect([codes[0], codes.at(-1)]).toEqual([404, 429]);
  });
});

describe('the table of visits', () => {
  it('has a row for each, and nothing in it is a formula', async () => {
    const share = await office.publish(iris, [plan], { title: 'Levels, again' });
    const visitor = office.client();
    await visitor.ask('POST', `/s/${share.token}/open`, { password: null });
    await visitor.fetch(`/s/${share.token}/files/${plan}`);
    await office.db.query("UPDATE visit SET recipient = '=1+1@fenway.example' WHERE share_id = $1", [share.id]);
    const answer = await iris.fetch(`/api/shares/${share.id}/visits.csv`);
    expect(answer.headers.get('content-disposition')).toBe('attachment; filename="Levels, again visits.csv"');
    const began = new Date(office.clock.now()).toISOString();
    expect((await answer.text()).replace(/Visit [0-9A-F]{6}/, 'Visit X')).toBe(
      `began,visit,who,from,files,everything\r\n${began},Visit X,'=1+1@fenway.example,127.0.0.1,1,\r\n`,
    );
  });
});
