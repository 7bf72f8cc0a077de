import type { PasswordLink } from '@quay/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { loggablePath } from '../platform/log/request-log.js';
import { AccountsService } from './accounts.service.js';

let office: TestOffice;
let accounts: AccountsService;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  accounts = office.app.get(AccountsService);
  iris = await office.signedIn('iris');
});
afterAll(() => office.close());
// Tries are counted by the minute.
beforeEach(() => office.clock.advance(61_000));

const NEW = 'orchard-bramble-cistern-owl';
const set = (token: string, password = NEW) =>
  office.client().ask('POST', `/api/password-links/${token}`, { password });
const signIn = (signInName: string, password: string) =>
  office.client().ask('POST', '/api/session', { signInName, password });
const last = async () =>
  (await iris.ask<{ entries: { words: string; who: string }[] }>('GET', '/api/ledger?limit=1')).body.entries[0];

describe('a link for a password', () => {
  it('sets it once, and ends all sessions of that person', async () => {
    const rosa = await office.signedIn('rosa');
    const { token, name } = await accounts.passwordLink('rosa');
    expect(name).toBe('Rosa Quill');
    expect((await last())?.words).toContain('gave out a link by which Rosa Quill sets a password');
    const { body } = await office.client().ask<PasswordLink>('GET', `/api/password-links/${token}`);
    expect(body).toEqual({ name: 'Rosa Quill', signInName: 'rosa', office: 'Saltmarsh Survey', begins: false });
    expect((await set(token, 'password1234')).body.code).toBe('password.weak');
    expect((await set(token)).status).toBe(204);
    expect((await rosa.ask('GET', '/api/session')).status).toBe(401);
    expect((await signIn('rosa', NEW)).status).toBe(204);
    expect((await set(token)).body.code).toBe('link.over');
  });
  it('is used once, however many use it at once', async () => {
    const { token } = await accounts.passwordLink('rosa');
    const all = await Promise.all([1, 2, 3, 4].map((n) => set(token, `${NEW}-${n}`)));
    expect(all.map((a) => a.status).sort()).toEqual([204, 410, 410, 410]);
  });
  it('is void after a day, and when another is made; what never was is told alike', async () => {
    const first = await accounts.passwordLink('rosa');
    const second = await accounts.passwordLink('rosa');
    const words = (await set(first.token)).body.detail;
    expect((await set('A'.repeat(22))).body.detail).toBe(words);
    office.clock.advance(24 * 3600_000);
    expect((await set(second.token)).body.detail).toBe(words);
  });
  it('is not guessed, kept or logged', async () => {
    const { token } = await accounts.passwordLink('rosa');
    expect(JSON.stringify(await office.db.query('SELECT * FROM password_link'))).not.toContain(token);
    for (const path of [`/api/password-links/${token}`, `/password/${token}?x=1`])
      expect(loggablePath(path)).not.toContain(token);
    const tries = await Promise.all(Array.from({ length: 25 }, () => set('B'.repeat(22))));
    expect(tries.filter((t) => t.status === 429).length).toBe(5);
  });
});

describe('whoever has the machine', () => {
  it('makes somebody of the office an admin, at once and written down', async () => {
    const tomas = await office.signedIn('tomas');
    expect((await tomas.ask('GET', '/api/settings/office')).status).toBe(403);
    expect(await accounts.makeAdmin('tomas', null)).toEqual({ added: false });
    expect((await tomas.ask('GET', '/api/settings/office')).status).toBe(200);
    expect(await last()).toMatchObject({ who: 'Whoever has the machine' });
    expect((await last())?.words).toContain('made Tomas Osei an admin');
  });
  it('gives a new admin an account that nobody can use before its link is', async () => {
    expect(await accounts.makeAdmin('noel', { name: 'Noel Farrow', email: 'noel@saltmarsh.example' })).toEqual({
      added: true,
    });
    const { token } = await accounts.passwordLink('noel');
    expect((await set(token)).status).toBe(204);
    const noel = office.client();
    await noel.ask('POST', '/api/session', { signInName: 'noel', password: NEW });
    expect((await noel.ask('GET', '/api/session')).body).toMatchObject({ role: 'admin', initials: 'NF' });
    const stores = (await noel.ask<{ kind: string }[]>('GET', '/api/stores')).body;
    expect(stores.filter((s) => s.kind === 'home')).toHaveLength(1);
  });
  it('signs somebody out everywhere', async () => {
    const tomas = await office.signedIn('tomas');
    expect((await accounts.endSessions('tomas')).ended).toBeGreaterThan(0);
    expect((await tomas.ask('GET', '/api/session')).status).toBe(401);
  });
  it('is told who is there, and that somebody is not, has left, or is a guest', async () => {
    expect((await accounts.list()).map((a) => a.signInName)).toEqual(['iris', 'noel', 'rosa', 'tomas']);
    await expect(accounts.passwordLink('nobody')).rejects.toMatchObject({ code: 'person.none' });
    await expect(accounts.makeAdmin('nobody', null)).rejects.toMatchObject({ code: 'person.none' });
    await office.db.query(`UPDATE person SET disabled_at = now() WHERE sign_in_name = 'rosa'`);
    await expect(accounts.passwordLink('rosa')).rejects.toMatchObject({ code: 'person.none' });
    await expect(accounts.makeAdmin('rosa', null)).rejects.toMatchObject({ code: 'person.left' });
    await office.db.query(`UPDATE person SET disabled_at = NULL, role = 'guest' WHERE sign_in_name = 'rosa'`);
    await expect(accounts.makeAdmin('rosa', null)).rejects.toMatchObject({ code: 'person.guest' });
  });
});
