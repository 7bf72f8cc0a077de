import type {
  AccessMoments,
  AccessShifts,
  AccessTableAnswer,
  Explanation,
  FolderAccess,
  GroupRow,
  ShiftsBetween,
} from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

// Projects: all staff edit. In it Personnel, which takes nothing over: a group manages it.
let office: TestOffice;
let iris: Client;
let personnel: string;
let crew: GroupRow;
let tomas: string;
const HOUR_MS = 3600_000;
const table = async (at?: string, by = iris) =>
  (await by.ask<AccessTableAnswer>('GET', `/api/access/table${at ? `?at=${at}` : ''}`)).body;
/** What somebody has in a folder, as the table says it. */
function cell({ folders, rows }: AccessTableAnswer, who: string, where: string): string | undefined {
  const i = folders.findIndex((f) => f.name === where);
  return i === -1 ? undefined : rows.find((r) => r.name === who)?.cells[i];
}
const attempt = (trial: object, by = iris) => by.ask<AccessShifts>('POST', '/api/access/trials', trial);
const now = () => office.clock.date().toISOString();

beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  const [row] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`);
  tomas = row?.id as string;
  personnel = await folder(iris, office.roots.projects, 'Personnel');
  crew = (await iris.ask<GroupRow[]>('POST', '/api/groups', { name: 'Payroll team' })).body[0] as GroupRow;
  const grant = { subject: { kind: 'group', id: crew.id }, level: 'edit', until: null };
  await iris.ask('POST', `/api/folders/${personnel}/grants`, grant);
  office.clock.advance(HOUR_MS);
});
afterAll(() => office.close());

describe('who reaches what', () => {
  it('is told for everybody in every folder, with where it is from', async () => {
    const told = await table();
    expect(told.folders.map((f) => [f.name, f.closed])).toEqual([
      ['Partners', false],
      ['Projects', false],
      ['Personnel', false],
    ]);
    expect(told.rows.map((r) => [r.kind, r.name])).toEqual([
      ['group', 'Payroll team'],
      ['staff', 'All staff'],
      ['person', 'Iris Ward'],
      ['person', 'Rosa Quill'],
      ['person', 'Tomas Osei'],
      ['links', 'Anyone with a link'],
    ]);
    expect([cell(told, 'All staff', 'Projects'), cell(told, 'Rosa Quill', 'Personnel')]).toEqual(['E', 'e']);
    expect([cell(told, 'Payroll team', 'Personnel'), cell(told, 'Payroll team', 'Projects')]).toEqual(['E', '.']);
    expect([cell(told, 'Tomas Osei', 'Partners'), cell(told, 'Iris Ward', 'Partners')]).toEqual(['V', 'm']);
  });
  it('whoever holds a link is among them, as long as it is open', async () => {
    const { body: file } = await iris.upload(office.roots.partners, 'Plan.txt', Buffer.from('plan'));
    const share = await office.publish(iris, [file.id]);
    expect(cell(await table(), 'Anyone with a link', 'Partners')).toBe('D');
    expect(cell(await table(), 'Anyone with a link', 'Projects')).toBe('.');
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect(cell(await table(), 'Anyone with a link', 'Partners')).toBe('.');
  });
  it('shows no home, and names nothing to whoever may not say who reaches it', async () => {
    await office.db.query(`UPDATE person SET duties = duties || '{run-people}' WHERE sign_in_name = 'rosa'`);
    const rosa = await office.signedIn('rosa');
    const told = await table(undefined, rosa);
    expect(told.folders.map((f) => f.name)).toEqual(['Projects', 'Personnel']);
    expect(JSON.stringify(await table())).not.toContain(office.roots.tomas);
  });
});

describe('a change that is only tried', () => {
  it('says what it would do, and does nothing', async () => {
    const before = await table();
    const entries = async () =>
      (await office.db.query<{ n: number }[]>('SELECT count(*)::int AS n FROM ledger_entry'))[0]?.n;
    const [count] = [await entries()];
    const { status, body } = await attempt({ inherits: { folderId: personnel, inherits: false } });
    // Whoever has it now keeps it at the beginning, so nobody loses anything by the stop alone.
    expect([status, body.words]).toEqual([201, 'Nothing changes for anybody.']);
    const lost = await attempt({ join: { groupId: crew.id, member: { kind: 'person', id: tomas } } });
    expect(lost.body.words).toBe('Nothing changes for anybody.');
    const granted = await attempt({
      grant: { folderId: office.roots.partners, subject: { kind: 'staff' }, level: 'download' },
    });
    expect(granted.body).toMatchObject({ words: '2 people gain.', more: 0 });
    expect(granted.body.shifts).toContainEqual({
      ...{ person: { id: tomas, name: 'Tomas Osei' }, guest: false, below: 0 },
      ...{ folder: { id: office.roots.partners, name: 'Partners' }, was: 'view', is: 'download' },
    });
    expect([await table(), await entries()]).toEqual([{ ...before, at: now() }, count]);
  });
  it('is refused as it would be', async () => {
    const rosa = await office.signedIn('rosa');
    const grant = { folderId: office.roots.partners, subject: { kind: 'staff' }, level: 'download' };
    expect((await attempt({ grant }, rosa)).status).toBe(404);
    expect((await attempt({ end: { grantId: crew.id } })).status).toBe(404);
    expect((await attempt({})).status).toBe(400);
  });
});

describe('at a moment', () => {
  it('is as it was, and the difference says who changed it', async () => {
    const then = now();
    office.clock.advance(HOUR_MS);
    await iris.ask('PATCH', `/api/folders/${personnel}/access`, { inherits: false, beginsWith: 'nobody' });
    office.clock.advance(HOUR_MS);
    const [was, is] = [await table(then), await table()];
    expect([cell(was, 'Rosa Quill', 'Personnel'), cell(is, 'Rosa Quill', 'Personnel')]).toEqual(['e', '.']);
    expect([cell(was, 'Iris Ward', 'Personnel'), cell(is, 'Iris Ward', 'Personnel')]).toEqual(['m', 'k']);
    expect(is.folders.find((f) => f.name === 'Personnel')?.closed).toBe(true);
    const { body } = await iris.ask<ShiftsBetween>('GET', `/api/access/shifts?since=${then}`);
    expect(body).toMatchObject({ words: '3 people lose.', by: [{ name: 'Iris Ward', times: 1 }] });
    expect(body.shifts.map((s) => [s.person.name, s.folder.name, s.was, s.is])).toContainEqual([
      ...['Rosa Quill', 'Personnel', 'edit', null],
    ]);
    const { moments } = (await iris.ask<AccessMoments>('GET', '/api/access/moments')).body;
    expect(moments.length).toBeGreaterThan(1);
    expect((await iris.ask('GET', `/api/access/shifts?since=${now()}`)).status).toBe(400);
    expect((await iris.ask('GET', '/api/access/table?at=2040-01-01T00:00:00Z')).body).toMatchObject({
      code: 'access.future',
    });
  });
  it('equals what each person was told at the time, wherever folders have moved since', async () => {
    const inner = await folder(iris, office.roots.projects, 'Weir House');
    await iris.ask('POST', `/api/folders/${inner}/grants`, {
      ...{ subject: { kind: 'person', id: tomas }, level: 'manage', until: null },
    });
    office.clock.advance(HOUR_MS);
    const snapshot = await table();
    office.clock.advance(HOUR_MS);
    await iris.ask('POST', '/api/nodes/move', { nodeIds: [inner], targetId: office.roots.partners });
    const { body: access } = await iris.ask<FolderAccess>('GET', `/api/folders/${inner}/access`);
    for (const grant of access.grants.filter((g) => g.folderId === inner))
      await iris.ask('DELETE', `/api/grants/${grant.id}`);
    office.clock.advance(HOUR_MS);
    expect(await table()).not.toEqual({ ...snapshot, at: now() });
    // Links go by what is open now.
    const rows = snapshot.rows.filter((row) => row.kind !== 'links');
    expect(await table(snapshot.at)).toEqual({ ...snapshot, rows });
  });
});

it('why a group has what it has is told as well', async () => {
  const path = `/api/folders/${personnel}/access/explain?groupId=${crew.id}`;
  const { body } = await iris.ask<Explanation>('GET', path);
  expect(body).toMatchObject({
    name: 'Payroll team',
    level: 'edit',
    why: ['Can edit: granted on Personnel to Payroll team.'],
  });
  expect(body.grants).toHaveLength(1);
});
