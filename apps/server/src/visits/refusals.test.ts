import { SHARED_TRIES_PER_MINUTE } from '@quay/core';
import type { ShareSheet } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Attempts } from '../platform/attempts.js';
import { Problem } from '../platform/problems/problem.js';
import { RefusalsService } from './refusals.service.js';
import { VisitsService } from './visits.service.js';

const PASSWORD = 'gravel-heron-silent-oar';
let office: TestOffice;
let iris: Client;
let plan = '';
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(() => office.close());

/** Somebody at an address who types a password. @returns the code of the refusal, or that they are in */
const opens = (token: string, fromAddress: string, password: string): Promise<string> =>
  office.app
    .get(VisitsService)
    .open({ token, cookie: null, session: null, fromAddress, agent: '' }, { password })
    .then(() => 'in')
    .catch((error: unknown) => (error instanceof Problem ? error.code : String(error)));
const sheet = async (id: string) => (await iris.ask<ShareSheet>('GET', `/api/shares/${id}`)).body;

describe('refused tries', () => {
  it('keep nobody out: who guesses is slowed, who had the password before does not wait', async () => {
    const { token } = await office.publish(iris, [plan], { password: PASSWORD });
    expect(await opens(token, '192.0.2.1', PASSWORD)).toBe('in');
    const turn = vi.spyOn(office.app.get(Attempts), 'turn');
    // Many sources guess, each a little, as fast as they can.
    const guesses = Array.from({ length: SHARED_TRIES_PER_MINUTE + 40 }, (_, n) =>
      opens(token, `198.51.100.${n}`, 'wrong'),
    );
    const line = Promise.all(guesses);
    expect(await opens(token, '192.0.2.1', PASSWORD)).toBe('in');
    const answers = await line;
    // Whoever is known stood in no line.
    expect(turn).toHaveBeenCalledTimes(guesses.length);
    // Those for whom the line is too long are told to come again; the others waited for their turn.
    expect(new Set(answers)).toEqual(new Set(['share.wrong-password', 'tries.too-many']));
    expect(answers.filter((a) => a === 'share.wrong-password').length).toBeGreaterThan(SHARED_TRIES_PER_MINUTE);
    // It goes by: a minute later somebody new comes in at once.
    office.clock.advance(90_000);
    expect(await opens(token, '203.0.113.5', PASSWORD)).toBe('in');
  });

  it('are counted for one source alone, of an IPv6 address for all that share its first 64 bits', async () => {
    const { token } = await office.publish(iris, [plan], { password: PASSWORD });
    for (let n = 0; n < 10; n += 1)
      expect(await opens(token, `2001:db8:1:2::${n.toString(16)}`, 'wrong')).toBe('share.wrong-password');
    expect(await opens(token, '2001:db8:1:2::ff', PASSWORD)).toBe('tries.too-many');
    expect(await opens(token, '2001:db8:1:3::1', PASSWORD)).toBe('in');
  });

  it('are written down once for each source and hour, with their count', async () => {
    const share = await office.publish(iris, [plan], { password: PASSWORD });
    for (let n = 0; n < 3; n += 1) await opens(share.token, '198.51.100.7', `wrong ${n}`);
    await opens(share.token, '198.51.100.8', 'wrong');
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    await opens(share.token, '198.51.100.8', PASSWORD);
    const before = await sheet(share.id);
    expect(before.refused.map((r) => [r.from, r.reason, r.count])).toEqual(
      expect.arrayContaining([
        ['198.51.100.8', 'state', 1],
        ['198.51.100.8', 'password', 1],
        ['198.51.100.7', 'password', 3],
      ]),
    );
    expect(before.refusedTotal).toBe(5);
    // The hour is not over yet.
    await office.app.get(RefusalsService).tell();
    expect((await sheet(share.id)).history.filter((h) => h.kind === 'share.refused')).toEqual([]);
    office.clock.advance(3_600_000);
    for (let n = 0; n < 2; n += 1) await office.app.get(RefusalsService).tell();
    const told = (await sheet(share.id)).history.filter((h) => h.kind === 'share.refused');
    expect(told.map((h) => `${h.who} ${h.words}`).sort()).toEqual([
      'Visitor from 198.51.100.7 was refused 3 times at Mill Lane drawings (wrong password)',
      'Visitor from 198.51.100.8 was refused 1 time at Mill Lane drawings (not open then)',
      'Visitor from 198.51.100.8 was refused 1 time at Mill Lane drawings (wrong password)',
    ]);
  });

  it('of very many sources are counted together', async () => {
    const share = await office.publish(iris, [plan], { password: PASSWORD });
    const refusals = office.app.get(RefusalsService);
    for (let n = 0; n < 230; n += 1) await refusals.note(share, `10.1.${n >> 7}.${n & 127}`, 'password');
    const rows = await office.db.query<{ source: string; count: number }[]>(
      'SELECT source, count FROM share_refusal WHERE share_id = $1 ORDER BY count DESC',
      [share.id],
    );
    expect([rows.length, rows[0]]).toEqual([201, { source: '', count: 30 }]);
  });
});
