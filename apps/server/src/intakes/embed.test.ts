import type { IntakeDoor, IntakeSheet } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { askForFiles, handIn, outsider, sendFile } from '../_fixtures/intakes.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let into: string;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  into = await folder(iris, office.roots.projects, 'Photographs');
});
afterAll(() => office.close());

const OURS = { ink: '#1c2b33', paper: '#ffffff', accent: '#0e5a60' };
const allow = (id: string, embed: object | null) =>
  iris.ask<IntakeSheet & { code?: string }>('PATCH', `/api/intakes/${id}`, { embed });
/** Where browsers let a page be shown (CSP Level 3, frame-ancestors; RFC 7034). */
const framesOf = async (path: string) => {
  const { headers } = await office.client().fetch(path);
  const [, ancestors] = /frame-ancestors ([^;]+)/.exec(headers.get('content-security-policy') ?? '') ?? [];
  return [ancestors, headers.get('x-frame-options')];
};

describe('the page of an intake within another', () => {
  it('is shown in pages of the origins that are named, and every other page of ours in none', async () => {
    const [intake, other] = [await askForFiles(iris, into), await askForFiles(iris, into)];
    const closed = ["'none'", 'DENY'];
    expect(await framesOf(`/h/${intake.token}/embed`)).toEqual(closed);
    const { body } = await allow(intake.id, { origins: ['https://www.Saltmarsh.example/contact'], colours: OURS });
    expect(body.embed).toEqual({ origins: ['https://www.saltmarsh.example'], colours: OURS });
    expect(await framesOf(`/h/${intake.token}/embed`)).toEqual(['https://www.saltmarsh.example', null]);
    for (const path of [`/h/${intake.token}`, `/h/${other.token}/embed`, '/h/nothing/embed', '/', '/api/session'])
      expect(await framesOf(path)).toEqual(closed);
    const door = await office.client().ask<IntakeDoor>('GET', `/h/${intake.token}/door`);
    expect(door.body.embed?.colours).toEqual(OURS);
    expect((await allow(intake.id, null)).body.embed).toBeNull();
    expect(await framesOf(`/h/${intake.token}/embed`)).toEqual(closed);
  });

  it('is not let into what is no page, nor in colours that nobody can read', async () => {
    const intake = await askForFiles(iris, into);
    const fieldOf = async (embed: object) =>
      ((await allow(intake.id, embed)).body as unknown as { errors?: { field: string }[] }).errors?.[0]?.field;
    for (const origin of ["'self'", '*', 'https://*', "https://a.example; script-src 'unsafe-inline'", 'javascript:x'])
      expect(await fieldOf({ origins: [origin], colours: null })).toBe('embed.origins.0');
    expect(await fieldOf({ origins: [], colours: null })).toBe('embed.origins');
    const pale = { ...OURS, ink: '#dddddd' };
    expect(await fieldOf({ origins: ['https://a.example'], colours: pale })).toBe('embed.colours');
    const tomas = await office.signedIn('tomas');
    const asked = { embed: { origins: ['https://a.example'], colours: null } };
    expect((await tomas.ask('PATCH', `/api/intakes/${intake.id}`, asked)).status).toBe(404);
  });

  it('is known by what it keeps itself, without a cookie, and by nobody else’s', async () => {
    const intake = await askForFiles(iris, into);
    const client = office.client();
    const { body } = await client.ask<{ key?: string }>('POST', `/h/${intake.token}/begin`, {
      ...{ password: null, byPage: true },
    });
    expect(body.key).toMatch(/^[\w-]{32}$/);
    expect(client.cookieHeader(`/h/${intake.token}/`)).toBe('');
    const inside = async (key: string) => {
      const answer = await office.client().fetch(`/h/${intake.token}/door`, { headers: { 'Quay-Deposit': key } });
      return ((await answer.json()) as IntakeDoor).inside;
    };
    const somebody = await outsider(office, intake.token);
    await sendFile(somebody, 'a.txt', Buffer.from('a'));
    await handIn(somebody);
    expect((await inside(body.key ?? ''))?.receipts).toEqual([]);
    expect((await inside('x'.repeat(32)))?.files).toEqual([]);
  });
});
