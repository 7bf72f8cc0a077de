import type { ImportAnswer, People } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
});
afterAll(() => office.close());

const row = (line: number, name: string, part: object = {}) => ({
  ...{ line, name, email: `${name.toLowerCase()}@saltmarsh.example`, signInName: name.toLowerCase(), groups: [] },
  ...part,
});
const take = (rows: object[], part: object = {}) =>
  iris.ask<ImportAnswer>('POST', '/api/people/import', { rows, mail: false, makeGroups: false, keep: false, ...part });
const names = async () => (await iris.ask<People>('GET', '/api/people')).body.people.map((p) => p.name);

describe('a list of people', () => {
  it('is looked at, line by line, and nothing is kept', async () => {
    const before = await names();
    const { body } = await take([
      row(2, 'Zoe'),
      row(3, 'Tomas', { email: 'TOMAS@saltmarsh.example' }),
      row(4, 'Bo', { signInName: 'iris' }),
      row(5, '=1+1', { email: 'x@saltmarsh.example', signInName: 'xx' }),
      row(6, 'Noel', { email: 'no mail' }),
      row(7, 'Zoe', { email: 'other@saltmarsh.example' }),
      row(8, '', { email: 'y@saltmarsh.example' }),
      row(9, 'Ada', { groups: ['Payroll team'] }),
    ]);
    expect(body.lines.map((l) => [l.line, l.outcome])).toEqual([
      ...[
        [2, 'added'],
        [3, 'there'],
        [4, 'fault'],
        [5, 'fault'],
        [6, 'fault'],
        [7, 'fault'],
        [8, 'fault'],
        [9, 'fault'],
      ],
    ]);
    expect(body.lines.map((l) => l.words).slice(1)).toEqual([
      'Tomas Osei has that mail address already, and stays as they are.',
      'Iris Ward signs in as iris already.',
      '“=1+1” begins as a formula of a spreadsheet does.',
      'That is no mail address.',
      'Zoe signs in as zoe already.',
      'The name is missing.',
      'There is no group called Payroll team. Groups can be made from the list.',
    ]);
    expect(await names()).toEqual(before);
  });
  it('with a fault in it is not kept at all', async () => {
    const before = await names();
    const { status, body } = await take([row(2, 'Zoe'), row(3, 'Bo', { email: '' })], { keep: true });
    expect([status, body]).toMatchObject([
      409,
      { code: 'import.faults', detail: 'Nothing was taken in: line 3. The mail address is missing.' },
    ]);
    expect(await names()).toEqual(before);
  });
  it('is kept whole, with groups that were made for it and a link for each', async () => {
    const rows = [
      row(2, 'Zoe', { groups: ['Payroll team'] }),
      row(3, 'Ada', { groups: ['Payroll team'] }),
      row(4, 'Tomas'),
    ];
    const { body } = await take(rows, { keep: true, makeGroups: true });
    expect([body.newGroups, body.invitations.map((i) => i.name)]).toEqual([['Payroll team'], ['Zoe', 'Ada']]);
    expect(new Set(body.invitations.map((i) => i.link)).size).toBe(2);
    const { groups } = (await iris.ask<People>('GET', '/api/people')).body;
    expect(groups.map((g) => [g.name, g.members.map((m) => m.name)])).toEqual([['Payroll team', ['Ada', 'Zoe']]]);
    // The same list once more adds nobody.
    const again = (await take(rows, { keep: true })).body;
    expect([again.lines.map((l) => l.outcome), again.invitations]).toEqual([['there', 'there', 'there'], []]);
  });
});
