import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder, move, trash } from '../_fixtures/acts.js';
import { listen, quiet, until } from '../_fixtures/listening.js';
import { openOffice, PASSWORDS, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
});
afterAll(() => office.close());

describe('what staff hear', () => {
  it('is of what they may see, and of nothing else', async () => {
    const [toTomas, toIris, toRosa] = [await listen(tomas), await listen(iris), await listen(rosa)];
    const hidden = await folder(rosa, office.roots.rosa, 'Hidden');
    const { id } = (await rosa.upload(hidden, 'secret.txt', Buffer.from('x'))).body;
    const share = await office.publish(rosa, [id]);
    await office.client().ask('POST', `/s/${share.token}/open`, { password: null });
    await trash(rosa, [id]);
    await until(() => toRosa.heard.some((e) => e.topic === 'node' && e.id === hidden));
    await quiet();
    expect(toTomas.heard).toEqual([]);
    // The admin sees that there are shares and what the ledger says, not what lies in a home.
    expect(new Set(toIris.heard.map((e) => e.topic))).toEqual(new Set(['ledger', 'share']));
    expect(toRosa.heard.some((e) => e.topic === 'share' && e.id === share.id)).toBe(true);
    expect(toRosa.heard.every((e) => Object.keys(e).sort().join() === 'id,topic')).toBe(true);
    const shown = await folder(rosa, office.roots.projects, 'Shown');
    await move(rosa, [shown], office.roots.projects);
    await until(() => toTomas.heard.some((e) => e.topic === 'node' && e.id === office.roots.projects));
    for (const ear of [toTomas, toIris, toRosa]) await ear.stop();
  });
  it('ends when they sign out, and when their password is changed elsewhere', async () => {
    const leaving = await office.signedIn('tomas');
    const ear = await listen(leaving);
    await leaving.ask('DELETE', '/api/session');
    await until(() => ear.state.ended);
    const [here, there] = [await office.signedIn('tomas'), await office.signedIn('tomas')];
    const [kept, lost] = [await listen(here), await listen(there)];
    await here.ask('PUT', '/api/session/password', { current: PASSWORDS.tomas, next: 'orchard-bramble-cistern' });
    await until(() => lost.state.ended);
    expect(kept.state.ended).toBe(false);
    await kept.stop();
  });
  it('is refused without a session, and counted by person, not by address', async () => {
    expect((await office.client().fetch('/api/events')).status).toBe(401);
    const ears = [];
    for (let n = 0; n < 30; n += 1) ears.push(await listen(rosa));
    expect((await rosa.fetch('/api/events')).status).toBe(429);
    const colleague = await listen(iris);
    expect(colleague.status).toBe(200);
    for (const ear of [...ears, colleague]) await ear.stop();
  });
});

describe('what a visitor hears', () => {
  it('is only of their share, only with a visit, and ends when that is withdrawn', async () => {
    const place = await folder(iris, office.roots.projects, 'Shared');
    await iris.upload(place, 'a.txt', Buffer.from('a'));
    const [mine, other] = [await office.publish(iris, [place]), await office.publish(iris, [place])];
    expect((await office.client().fetch(`/s/${mine.token}/events`)).status).toBe(401);
    const visitor = office.client();
    await visitor.ask('POST', `/s/${mine.token}/open`, { password: null });
    const ear = await listen(visitor, `/s/${mine.token}/events`);
    await iris.ask('PATCH', `/api/shares/${other.id}`, { title: 'Another' });
    await folder(iris, office.roots.projects, 'Beside it');
    await folder(rosa, office.roots.rosa, 'Far away');
    await quiet();
    expect(ear.heard).toEqual([]);
    await iris.upload(place, 'b.txt', Buffer.from('b'));
    await until(() => ear.heard.length === 1);
    expect(ear.heard).toEqual([{ changed: true }]);
    await iris.ask('PATCH', `/api/shares/${mine.id}`, { withdrawn: true });
    await until(() => ear.heard.length === 2 && ear.state.ended);
    expect((await visitor.fetch(`/s/${mine.token}/events`)).status).toBe(410);
  });
});
