import type { AccessAnswer } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let weir: string;
const ask = async (text: string, part: object = {}, by = iris) =>
  (await by.ask<AccessAnswer>('POST', '/api/access/questions', { text, ...part })).body;

beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  weir = await folder(iris, await folder(iris, office.roots.partners, '2026'), 'Weir House');
});
afterAll(() => office.close());

describe('a question', () => {
  it('who can open a folder, however deep it lies', async () => {
    expect((await ask('who can open Projects')).words).toBe(
      'Iris Ward, Rosa Quill and Tomas Osei can download Projects.',
    );
    expect(await ask('who can open weir house?')).toMatchObject({
      words: 'Iris Ward can download Weir House.',
      folder: { id: weir },
    });
  });
  it('what somebody reaches', async () => {
    expect(await ask('what can Tomas reach')).toMatchObject({
      words: 'Tomas Osei reaches 2 folders and what lies in them.',
      lines: ['Partners: can view', 'Projects: can edit'],
    });
  });
  it('why somebody cannot do something, and the change that mends it', async () => {
    const answer = await ask("why can't Tomas upload here", { here: weir });
    expect(answer).toMatchObject({
      words: 'Tomas Osei can view Weir House, and for that they would need “can add files”.',
      lines: ['Can view: granted on Partners.'],
      mend: { words: 'Tomas Osei can add files to Weir House', folderId: weir },
    });
    const tried = await iris.ask<{ words: string }>('POST', '/api/access/trials', answer.mend?.trial);
    expect(tried.body.words).toBe('1 person gains.');
    const trial = answer.mend?.trial as { grant: { subject: object; level: string } };
    await iris.ask('POST', `/api/folders/${weir}/grants`, {
      subject: trial.grant.subject,
      level: trial.grant.level,
      until: null,
    });
    expect((await ask("why can't Tomas upload here", { here: weir })).words).toBe(
      'Tomas Osei can add files to Weir House: that includes it.',
    );
    // What they have on the folder itself becomes more, and no second grant stands beside it.
    expect((await ask("why can't Tomas delete in Weir House")).mend?.trial).toMatchObject({
      replace: { level: 'edit' },
    });
  });
  it('that names nobody, several or nothing says so', async () => {
    expect((await ask('what can Noel reach')).words).toBe('Nobody here is called Noel.');
    expect((await ask('what can o reach')).words).toMatch(/^Which one: /);
    expect((await ask('who can open Payroll')).words).toBe('No folder that you know of is called Payroll.');
    expect((await ask("why can't Tomas upload")).words).toMatch(/^Say in which folder/);
    expect((await ask('good morning')).understood).toBe(false);
  });
  it('tells nothing of homes, nor of folders that who asks has no part in', async () => {
    await office.db.query(`UPDATE person SET duties = duties || '{run-people}' WHERE sign_in_name = 'rosa'`);
    const rosa = await office.signedIn('rosa');
    expect((await ask('who can open Weir House', {}, rosa)).words).toBe(
      'No folder that you know of is called Weir House.',
    );
    expect((await ask('what can Tomas reach', {}, rosa)).lines).toEqual([
      'Projects: can edit',
      'And 2 folders that you have no part in.',
    ]);
    expect((await ask('who can open Tomas Osei')).words).toBe('No folder that you know of is called Tomas Osei.');
    expect((await ask("why can't Iris edit here", { here: office.roots.tomas })).words).toBe(
      'That folder is not there any more.',
    );
  });
});
