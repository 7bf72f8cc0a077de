import type { Task } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { TasksService } from './tasks.service.js';

let office: TestOffice;
let iris: Client;
let tasks: TasksService;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  tasks = office.app.get(TasksService);
});
afterEach(() => office.db.query('DELETE FROM task'));
afterAll(() => office.close());

const all = async () => (await iris.ask<Task[]>('GET', '/api/tasks')).body;
const one = async (id: string) => (await all()).find((t) => t.id === id);
const scrub = async () => (await iris.ask<Task>('POST', '/api/scrub')).body.id;

/** A task as another server process has it, which last gave a sign of life so long ago. */
async function elsewhere(state: Task['state'], silentSeconds: number, kind = 'scrub'): Promise<string> {
  const id = randomUUID();
  await office.db.query(
    `INSERT INTO task (id, kind, detail, state, created_at, beat_at, claim)
     VALUES ($1, $2, '{}', $3, now() - interval '1 hour', now() - $4::int * interval '1 second', $5)`,
    [id, kind, state, silentSeconds, randomUUID()],
  );
  return id;
}
/** Looks once, as the queue has it done each minute. */
const look = async () => {
  const jobs = office.app.get(Jobs);
  await jobs.handIn(office.db.manager, 'tasks', {});
  while (await jobs.waiting('tasks')) {
    jobs.hurry('tasks');
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  await tasks.settled();
};

describe('long work', () => {
  it('is done one after the other, the oldest first', async () => {
    const ids = [await scrub(), await scrub(), await scrub()];
    await tasks.settled();
    const found = await all();
    expect(found.map((t) => t.id).sort()).toEqual([...ids].sort());
    expect(found.map((t) => t.state)).toEqual(['done', 'done', 'done']);
  });

  it('waits while another process does some, and goes on when that is done', async () => {
    const theirs = await elsewhere('running', 1);
    const mine = await scrub();
    await tasks.settled();
    expect((await one(mine))?.state).toBe('waiting');
    await office.db.query(`UPDATE task SET state = 'done', ended_at = now() WHERE id = $1`, [theirs]);
    await look();
    expect((await one(mine))?.state).toBe('done');
  });

  it('that comes while it is being looked, and found nothing, is not overlooked', async () => {
    const inside = tasks as unknown as { runNext(): Promise<boolean> };
    const runNext = inside.runNext.bind(tasks);
    let goOn = () => {};
    let looked = () => {};
    const found = new Promise<void>((resolve) => (looked = resolve));
    vi.spyOn(inside, 'runNext').mockImplementationOnce(async () => {
      const again = await runNext();
      looked();
      await new Promise<void>((resolve) => (goOn = resolve));
      return again;
    });
    await office.app.get(Jobs).handIn(office.db.manager, 'tasks', {});
    office.app.get(Jobs).hurry('tasks');
    await found;
    const mine = await scrub();
    goOn();
    await tasks.settled();
    expect((await one(mine))?.state).toBe('done');
  });

  it('of a process that died begins again, here', async () => {
    const theirs = await elsewhere('running', 61);
    await look();
    expect((await one(theirs))?.state).toBe('done');
  });

  it('that was taken over is not ended by the one that seemed dead', async () => {
    const [row] = await office.db.query<{ id: string; claim: string }[]>('SELECT id, claim FROM task WHERE id = $1', [
      await elsewhere('running', 61),
    ]);
    await look();
    const after = await office.db.query<{ claim: string; state: string }[]>('SELECT claim, state FROM task');
    expect(after).toHaveLength(1);
    expect([after[0]?.state, after[0]?.claim === row?.claim]).toEqual(['done', false]);
  });

  it('that was stopped before it began is never done', async () => {
    await elsewhere('running', 1);
    const mine = await scrub();
    const stopped = await iris.ask<Task>('POST', `/api/tasks/${mine}/stop`);
    expect([stopped.status, stopped.body.state]).toEqual([201, 'stopped']);
    await office.db.query(`UPDATE task SET state = 'done', ended_at = now() WHERE state = 'running'`);
    await look();
    expect(await one(mine)).toMatchObject({ state: 'stopped', report: null });
  });

  it('that has ended stays as it ended, whoever stops it', async () => {
    const mine = await scrub();
    await tasks.settled();
    const ended = await one(mine);
    await iris.ask('POST', `/api/tasks/${mine}/stop`);
    expect(await one(mine)).toEqual(ended);
  });

  it('that breaks says so, and does not hold up what comes after it', async () => {
    // An export without a place to write to, from before the configuration changed.
    const broken = await elsewhere('waiting', 0, 'export');
    const mine = await scrub();
    await tasks.settled();
    expect(await one(broken)).toMatchObject({ state: 'failed', report: { files: 0 } });
    expect((await one(broken))?.report?.words).not.toBe('');
    expect((await one(mine))?.state).toBe('done');
  });

  it('that is not there cannot be stopped, and nobody but the admin stops any', async () => {
    expect((await iris.ask('POST', `/api/tasks/${randomUUID()}/stop`)).status).toBe(404);
    const theirs = await elsewhere('running', 1);
    const tomas = await office.signedIn('tomas');
    expect((await tomas.ask('POST', `/api/tasks/${theirs}/stop`)).body.code).toBe('duty.missing');
    expect((await one(theirs))?.state).toBe('running');
  });
});
