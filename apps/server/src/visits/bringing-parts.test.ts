import { MAY_DOWNLOAD, type ShareMay } from '@quay/core';
import type { ShareSheet, UploadAnswer, VersionList, VisitorDoor } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder, names, trash, move } from '../_fixtures/acts.js';
import { bring, finish, refusal, refused, type Inside } from '../_fixtures/bringing.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
});
afterAll(() => office.close({ bytes: true }));

const may = (part: Partial<ShareMay>): ShareMay => ({ ...MAY_DOWNLOAD, ...part });
const EDIT = may({ level: 'edit' });
const CONTRIBUTE = may({ level: 'contribute' });
const text = (words: string) => Buffer.from(words);
const inside = async (token: string): Promise<Inside> => {
  const client = office.client();
  await client.ask('POST', `/s/${token}/open`, { password: null });
  return { client, token };
};
const contents = async ({ client, token }: Inside) =>
  (await client.ask<VisitorDoor>('GET', `/s/${token}/door`)).body.contents;
const paths = async (visit: Inside) => (await contents(visit))?.files.map((f) => f.path).sort();
const answerOf = async (visit: Inside, at: string) =>
  (await visit.client.ask<{ answer: UploadAnswer }>('GET', at)).body.answer;
const put = async (parent: string, name: string, words: string) => (await iris.upload(parent, name, text(words))).body;

describe('a folder that a visitor brings', () => {
  it('is made with the first of its files, below where it goes, and is one and the same for the others', async () => {
    const id = await folder(iris, office.roots.projects, 'Survey');
    const share = await office.publish(iris, [id], { may: CONTRIBUTE });
    const visit = await inside(share.token);
    const sent = ['North/plan.pdf', 'North/photos/a.jpg', 'North/photos/b.jpg', 'NORTH/list.csv'].map((path) => {
      const parts = path.split('/');
      const name = parts.pop() as string;
      return bring(visit, { folderId: id, path: parts.join('/'), name }, text(path));
    });
    await Promise.all(sent);
    // Names differ by case alone on no desktop.
    const found = (await paths(visit))?.map((path) => path.toLowerCase());
    expect(found).toEqual([
      'survey/north/list.csv',
      'survey/north/photos/a.jpg',
      'survey/north/photos/b.jpg',
      'survey/north/plan.pdf',
    ]);
    const { brought } = (await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(brought.map((b) => b.name).sort()).toEqual(['a.jpg', 'b.jpg', 'list.csv', 'plan.pdf']);
    // In a share of others' folders it lies beside what they do not see.
    expect(await names(iris, id)).toHaveLength(1);
  });

  it('goes into one of that name that is there, and its files meet those that have their names', async () => {
    const id = await folder(iris, office.roots.projects, 'There');
    const inner = await folder(iris, id, 'Plans');
    await put(inner, 'plan.txt', 'of the office');
    await put(id, 'taken', 'a file');
    const visit = await inside((await office.publish(iris, [id], { may: CONTRIBUTE })).token);
    const met = await refusal(visit, { folderId: id, path: 'plans', name: 'plan.txt' }, text('theirs'));
    expect(met.code).toBe('name.taken');
    const done = await finish(visit, new URL(met.at, office.origin).pathname, 'keep-both');
    expect(done.body.name).toBe('plan (2).txt');
    expect((await names(iris, inner)).sort()).toEqual(['plan (2).txt', 'plan.txt']);
    // Where a file has the name of the folder there can be none, and nothing is left of it.
    expect(await refused(visit, { folderId: id, path: 'Taken/below', name: 'x' })).toBe('name.taken');
    expect((await names(iris, id)).sort()).toEqual(['Plans', 'taken']);
  });

  it('lies where others see nothing of it', async () => {
    const id = await folder(iris, office.roots.projects, 'Drop');
    const hidden = may({ level: 'contribute', seesOthers: false });
    const share = await office.publish(iris, [id], { may: hidden });
    const [one, other] = [await inside(share.token), await inside(share.token)];
    await bring(one, { folderId: id, path: 'Bid of one', name: 'bid.pdf' }, text('one'));
    await bring(other, { folderId: id, path: 'Bid of other', name: 'bid.pdf' }, text('other'));
    expect(await paths(one)).toEqual(['Drop/Bid of one/bid.pdf']);
    expect(await paths(other)).toEqual(['Drop/Bid of other/bid.pdf']);
  });

  it('is refused by its name before a byte moves, and too deep by its path', async () => {
    const id = await folder(iris, office.roots.projects, 'Faults');
    const visit = await inside((await office.publish(iris, [id], { may: CONTRIBUTE })).token);
    for (const path of ['..', 'a/../b', 'CON', 'a/nul.txt/b', 'tab\there', 'end.', 'a\\b', 'n'.repeat(300)])
      expect(await refused(visit, { folderId: id, path, name: 'x' }), path).toMatch(/^name\./);
    expect(await refused(visit, { folderId: id, path: 'a/'.repeat(1999), name: 'x' })).toMatch(/^(path|name)\./);
    expect(await refused(visit, { folderId: id, path: 'a'.repeat(5000), name: 'x' })).toMatch(/invalid|max/);
    expect(await names(iris, id)).toEqual([]);
    // Empty parts are none.
    expect(await refused(visit, { folderId: id, path: '//a//', name: 'x' })).toBe('taken in');
    expect(await paths(visit)).toEqual(['Faults/a/x']);
  });
});

describe('a single file that may be replaced', () => {
  it('gets the version of a visitor, keeps its name and its place, and says who brought it', async () => {
    const plan = await put(office.roots.projects, 'single.txt', 'of the office');
    const secret = await put(office.roots.projects, 'beside.txt', 'not shared');
    const share = await office.publish(iris, [plan.id], { may: EDIT, title: 'One plan' });
    const visit = await inside(share.token);
    const [file] = (await contents(visit))?.files ?? [];
    expect(file).toMatchObject({ mayReplace: true, sha256: plan.sha256 });
    expect((await contents(visit))?.places).toEqual([]);
    const at = await bring(visit, { replaces: plan.id, name: 'my own name.txt', base: plan.sha256 }, text('theirs'));
    expect(await answerOf(visit, at)).toMatchObject({ id: plan.id, name: 'single.txt', version: 2 });
    const { versions } = (await iris.ask<VersionList>('GET', `/api/files/${plan.id}/versions`)).body;
    expect(versions[0]).toMatchObject({ number: 2, createdBy: 'Visitor from 127.0.0.1' });
    const { history, broughtBytes } = (await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(history[0]).toMatchObject({
      kind: 'share.replaced',
      words: 'replaced single.txt (version 2), brought into One plan',
    });
    expect(broughtBytes).toBe(6);
    // What lies beside it is not shared, and neither is the folder.
    expect(await refused(visit, { replaces: secret.id, name: 'x' })).toBe('not-found');
    expect(await refused(visit, { folderId: office.roots.projects, name: 'x' })).toBe('not-found');
    expect(await refused(visit, { folderId: office.roots.projects, replaces: plan.id, name: 'x' })).toBe(
      'folderId.unknown',
    );
    expect(await refused(visit, { name: 'x' })).toMatch(/^folderId\./);
  });

  it('is not covered unseen by one who has not seen the newer version, and is kept beside none', async () => {
    const plan = await put(office.roots.projects, 'newer.txt', 'first');
    const visit = await inside((await office.publish(iris, [plan.id], { may: EDIT })).token);
    await iris.upload(office.roots.projects, 'newer.txt', text('second'), '&conflict=version');
    const met = await refusal(visit, { replaces: plan.id, name: 'x', base: plan.sha256 }, text('theirs'));
    expect(met.code).toBe('file.newer');
    const at = new URL(met.at, office.origin).pathname;
    expect(await finish(visit, at, 'keep-both')).toMatchObject({ status: 400, body: { code: 'upload.replaces' } });
    expect((await finish(visit, at, 'version')).body).toMatchObject({ id: plan.id, version: 3 });
  });

  it('is found where it lies by then, and not in the trash', async () => {
    const [from, to] = [
      await folder(iris, office.roots.projects, 'From'),
      await folder(iris, office.roots.projects, 'To'),
    ];
    const plan = await put(from, 'moved.txt', 'first');
    const visit = await inside((await office.publish(iris, [plan.id], { may: EDIT })).token);
    const begin = await visit.client.fetch(`/s/${visit.token}/uploads`, {
      method: 'POST',
      headers: {
        ...{ 'Tus-Resumable': '1.0.0', 'Upload-Length': '4' },
        'Upload-Metadata': `replaces ${Buffer.from(plan.id).toString('base64')},name ${Buffer.from('x').toString('base64')}`,
      },
    });
    const at = begin.headers.get('location') as string;
    const send = () =>
      visit.client.fetch(at, {
        method: 'PATCH',
        body: 'late',
        headers: {
          ...{ 'Tus-Resumable': '1.0.0', 'Upload-Offset': '0' },
          'Content-Type': 'application/offset+octet-stream',
        },
      });
    await move(iris, [plan.id], to);
    expect((await send()).status).toBe(204);
    expect(await answerOf(visit, at)).toMatchObject({ id: plan.id, name: 'moved.txt', version: 2 });
    await trash(iris, [plan.id]);
    expect(await refused(visit, { replaces: plan.id, name: 'x' })).toMatch(/not-found|share\.broken/);
    expect(await names(iris, from)).toEqual([]);
  });

  it('is nobody’s to replace where the share is for adding, where it is frozen, or with an account alone', async () => {
    const plan = await put(office.roots.projects, 'fixed.txt', 'first');
    const id = await folder(iris, office.roots.projects, 'Around');
    const adding = await inside((await office.publish(iris, [id, plan.id], { may: CONTRIBUTE })).token);
    expect((await contents(adding))?.files.map((f) => f.mayReplace)).toEqual([false]);
    expect(await refused(adding, { replaces: plan.id, name: 'x' })).toBe('not-found');
    const frozen = await inside((await office.publish(iris, [id], { may: EDIT, frozenIds: [plan.id] })).token);
    expect((await contents(frozen))?.files.map((f) => f.mayReplace)).toEqual([false]);
    expect(await refused(frozen, { replaces: plan.id, name: 'x' })).toBe('not-found');
    const only = await inside((await office.publish(iris, [plan.id])).token);
    expect(await refused(only, { replaces: plan.id, name: 'x' })).toBe('not-found');
    const begun = await iris.fetch('/api/uploads', {
      method: 'POST',
      headers: {
        ...{ 'Tus-Resumable': '1.0.0', 'Upload-Length': '4' },
        'Upload-Metadata': `replaces ${Buffer.from(plan.id).toString('base64')},name ${Buffer.from('x').toString('base64')}`,
      },
    });
    expect([begun.status, ((await begun.json()) as { code: string }).code]).toEqual([400, 'upload.replaces']);
    const { versions } = (await iris.ask<VersionList>('GET', `/api/files/${plan.id}/versions`)).body;
    expect(versions).toHaveLength(1);
  });

  it('keeps what was brought when it is removed for good meanwhile: nothing is recorded', async () => {
    const plan = await put(office.roots.projects, 'gone.txt', 'first');
    const visit = await inside((await office.publish(iris, [plan.id], { may: EDIT })).token);
    await visit.client.fetch(`/s/${visit.token}/uploads`, {
      method: 'POST',
      headers: {
        ...{ 'Tus-Resumable': '1.0.0', 'Upload-Length': '4' },
        'Upload-Metadata': `replaces ${Buffer.from(plan.id).toString('base64')},name ${Buffer.from('x').toString('base64')}`,
      },
    });
    const [share] = await office.db.query<{ id: string }[]>('SELECT share_id AS id FROM upload WHERE replaces = $1', [
      plan.id,
    ]);
    await iris.ask('PATCH', `/api/shares/${share?.id}`, { withdrawn: true });
    await trash(iris, [plan.id]);
    expect((await iris.ask('POST', '/api/trash/purge', { nodeIds: [plan.id] })).status).toBe(200);
    expect(await office.db.query('SELECT 1 FROM upload WHERE replaces = $1', [plan.id])).toEqual([]);
  });
});
