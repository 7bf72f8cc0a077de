import { MAY_DOWNLOAD } from '@quay/core';
import type { CreateShare, ProblemBody, SeenPage, ShareSheet, VisitorDoor } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

const DAY = 86_400_000;
const PASSWORD = 'gravel-heron-silent-oar';
let office: TestOffice;
let mailbox: Mailbox;
let iris: Client;
let tomas: Client;
let rosa: Client;
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});

const put = async (by: Client, at: string, name: string) => (await by.upload(at, name, Buffer.from(name))).body.id;
const at = (days: number) => new Date(office.clock.now() + days * DAY).toISOString();
const draft = (nodeIds: string[], part: Partial<CreateShare> = {}): CreateShare => ({
  ...{ title: 'Drawings', message: 'As agreed.', nodeIds, password: null, weakPasswordMeant: false, visitLimit: null },
  window: { opensAt: null, closesAt: at(7) },
  ...part,
});
const seeDraft = (by: Client, share: CreateShare, part: object = {}) =>
  by.ask<SeenPage>('POST', '/api/shares/seen', { share, at: null, ...part });
const see = (by: Client, id: string, part: object = {}) =>
  by.ask<SeenPage>('POST', `/api/shares/${id}/seen`, { at: null, ...part });
const audience = (part: object) => ({ kind: 'listed' as const, listed: [], blocked: [], members: [], ...part });
/** How much there is of everything that publishing writes. */
const written = async () => {
  const [row] = await office.db.query<object[]>(
    `SELECT (SELECT count(*) FROM share) AS shares, (SELECT count(*) FROM share_item) AS items,
            (SELECT count(*) FROM share_frozen) AS frozen, (SELECT count(*) FROM ledger_entry) AS lines,
            (SELECT count(*) FROM visit) AS visits, (SELECT count(*) FROM share_recipient) AS recipients`,
  );
  return row;
};
/** What a real visitor gets of it, but for what counts. */
const reallySeen = async ({ link }: ShareSheet): Promise<VisitorDoor> => {
  const path = link.slice(link.indexOf('/s/'));
  return (await office.client().ask<VisitorDoor>('POST', `${path}/open`, { password: null })).body;
};

describe('the page of a share that is being put together', () => {
  it('is the one that visitors get once it is published, and leaves nothing behind', async () => {
    const within = await folder(iris, office.roots.projects, 'Seen before');
    const plan = await put(iris, within, 'plan.txt');
    const frozen = await put(iris, office.roots.projects, 'kept.txt');
    const share = draft([within], {
      frozenIds: [frozen],
      may: { ...MAY_DOWNLOAD, level: 'contribute', seesOthers: true },
    });
    const before = await written();
    const { body: seen, status } = await seeDraft(iris, share);
    expect([status, await written()]).toEqual([200, before]);
    expect(seen.door).toMatchObject({ state: 'open', contents: null, title: 'Drawings', sender: 'Iris Ward' });
    const { body: sheet } = await iris.ask<ShareSheet>('POST', '/api/shares', share);
    const real = await reallySeen(sheet);
    expect(seen.inside).toEqual(real);
    expect(real.contents?.files.map((f) => f.id).sort()).toEqual([plan, frozen].sort());
  });

  it('is looked at by many at once without keeping anybody else from the server', async () => {
    const share = draft([await put(iris, office.roots.projects, 'many.txt')]);
    const many = Promise.all(Array.from({ length: 40 }, () => seeDraft(iris, share)));
    expect((await seeDraft(tomas, draft([]))).status).toBe(200);
    const answers = (await many).map((answer) => answer.status);
    expect(answers.every((status) => [200, 429].includes(status))).toBe(true);
    expect(answers.filter((status) => status === 200).length).toBeGreaterThanOrEqual(10);
  });

  it('is told of each moment: not open yet, open, closed', async () => {
    const share = draft([await put(iris, office.roots.projects, 'moments.txt')], {
      window: { opensAt: at(2), closesAt: at(9) },
    });
    const states = await Promise.all(
      [null, at(3), at(9)].map(async (moment) => {
        const { door, inside } = (await seeDraft(iris, share, { at: moment })).body;
        return [door.state, door.now, inside?.state ?? null];
      }),
    );
    expect(states).toEqual([
      ['scheduled', at(0), null],
      ['open', at(3), 'open'],
      ['closed', at(9), null],
    ]);
  });

  it('asks for what a visitor is asked for, and its password goes nowhere', async () => {
    const share = draft([], { password: 'any password', weakPasswordMeant: true, visitLimit: 3 });
    const { door, inside } = (await seeDraft(iris, share)).body;
    expect(door).toMatchObject({ needsPassword: true, visitsLeft: 3, message: '' });
    expect(inside).toMatchObject({ message: 'As agreed.', contents: { files: [] } });
  });

  it('may be looked at by whoever may publish what is on it, and by nobody else', async () => {
    const theirs = await put(tomas, office.roots.tomas, 'mine.txt');
    const outside = office.client();
    expect((await seeDraft(outside, draft([]))).status).toBe(401);
    const refused = await seeDraft(rosa, draft([theirs]));
    expect([refused.status, (refused.body as unknown as ProblemBody).code]).toEqual([404, 'not-found']);
    expect((await seeDraft(iris, draft([], { window: { opensAt: at(3), closesAt: at(2) } }))).status).toBe(400);
    expect((await seeDraft(iris, draft([], { audience: audience({ listed: ['nobody at all'] }) }))).status).toBe(400);
  });
});

describe('the page as somebody', () => {
  it('is that of an address on the list; of any other it is told why it gets no code', async () => {
    const listed = draft([await put(iris, office.roots.projects, 'listed.txt')], {
      audience: audience({ listed: ['fenway.example'], blocked: ['out@fenway.example'] }),
    });
    const as = async (address: string) => (await seeDraft(iris, listed, { address })).body;
    expect((await as('M.Hale@Fenway.example')).inside?.you).toBe('m.hale@fenway.example');
    expect((await as('m@brookline.example')).kept).toMatchObject({
      code: 'share.wrong-code',
      words: 'No code goes to m@brookline.example: it is not on the list.',
    });
    expect((await as('out@fenway.example')).kept?.words).toContain('never let in');
    expect((await seeDraft(iris, listed)).body).toMatchObject({ inside: null, kept: { code: 'share.code-needed' } });
    expect((await seeDraft(iris, listed, { address: 'nobody' })).status).toBe(400);
    // Nobody was sent anything.
    expect(mailbox.mails).toEqual([]);
  });

  it('is that of a member, and not of others', async () => {
    const ids = await office.db.query<{ id: string; name: string }[]>('SELECT id, name FROM person ORDER BY name');
    const [, rosaId, tomasId] = ids.map((p) => p.id) as [string, string, string];
    const share = draft([], { audience: audience({ kind: 'members', members: [{ kind: 'person', id: tomasId }] }) });
    const as = async (personId?: string) => (await seeDraft(iris, share, personId ? { personId } : {})).body;
    expect((await as(tomasId)).inside?.you).toBe(ids[2]?.name);
    expect((await as(rosaId)).kept).toMatchObject({ code: 'share.not-meant' });
    expect((await as()).kept).toMatchObject({ code: 'share.sign-in' });
  });
});

describe('the page of a share that is out', () => {
  it('is as visitors get it, and counts no visit', async () => {
    const share = await office.publish(iris, [await put(iris, office.roots.projects, 'out.txt')], { visitLimit: 1 });
    const { door, inside } = (await see(iris, share.id)).body;
    expect([door.visitsLeft, inside?.contents?.files.length]).toEqual([1, 1]);
    expect((await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body.visitsUsed).toBe(0);
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect((await see(iris, share.id)).body).toMatchObject({ door: { state: 'withdrawn' }, inside: null, kept: null });
  });

  it('is shown to whose it is, and to whoever runs the server without what they do not see', async () => {
    const shared = await put(tomas, office.roots.projects, 'theirs.txt');
    const share = await office.publish(tomas, [shared], { password: PASSWORD });
    expect((await see(rosa, share.id)).status).toBe(404);
    expect((await see(iris, share.id)).body).toMatchObject({ hidden: 0, inside: { contents: { totalBytes: 10 } } });
    const home = await office.publish(tomas, [await put(tomas, office.roots.tomas, 'home.txt')]);
    const closed = await see(iris, home.id);
    expect([closed.status, (closed.body as unknown as ProblemBody).code]).toEqual([403, 'home.closed']);
  });
});

describe('the page that it is drawn on', () => {
  it('is shown within pages of this server alone, to whoever is signed in, in the language that is asked for', async () => {
    const page = await iris.fetch('/api/visitor-page?language=fr');
    expect([page.status, page.headers.get('x-frame-options')]).toEqual([200, 'SAMEORIGIN']);
    expect(page.headers.get('content-security-policy')).toContain("frame-ancestors 'self'");
    expect(await page.text()).toContain('<html lang="fr">');
    expect((await office.client().fetch('/api/visitor-page')).status).toBe(401);
    const { languages } = (await iris.ask<{ languages: string[] }>('GET', '/api/visitor-page/languages')).body;
    expect(languages.sort()).toEqual(['de', 'en', 'es', 'fr']);
    // A visitor's own page is shown within no other.
    const own = await office.client().fetch(`/s/${'A'.repeat(22)}`);
    expect(own.headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
  });
});
