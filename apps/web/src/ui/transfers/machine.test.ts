import { describe, expect, it } from 'vitest';
import { isActive, isWhole, matching, newTransfer, next, type Transfer, type TransferEvent } from './machine';

const away = { code: 'network.away', words: 'away' };
const taken = { code: 'name.taken', words: 'taken' };
const file = new File(['abcd'], 'plan.pdf', { lastModified: 5 });
const fresh = (part: Partial<Transfer> = {}): Transfer =>
  newTransfer({
    ...{ id: 1, key: 'k', name: 'plan.pdf', folderId: 'f', below: [], sizeBytes: 4, lastModified: 5, file },
    ...part,
  });
const after = (t: Transfer, ...events: TransferEvent[]): Transfer => events.reduce(next, t);
const OUT: TransferEvent[] = [{ type: 'checked', taken: false, fault: null }, { type: 'goes-out' }];

describe('a file on its way in', () => {
  it('is checked, waits, goes out and is done', () => {
    const states = OUT.concat({ type: 'done' }).map((_, i, all) => after(fresh(), ...all.slice(0, i + 1)).state);
    expect(states).toEqual(['waiting', 'sending', 'done']);
    expect(after(fresh(), ...OUT, { type: 'done' }).sentBytes).toBe(4);
  });

  it('fails at once when the server would refuse it, and waits for a decision when its name is taken', () => {
    expect(after(fresh(), { type: 'checked', taken: true, fault: away })).toMatchObject({
      state: 'failed',
      fault: away,
    });
    expect(after(fresh(), { type: 'checked', taken: true, fault: null }).state).toBe('asking');
  });

  it('asks when its name turns out to be taken, once; what was decided and is refused again has failed', () => {
    const asking = after(fresh(), ...OUT, { type: 'refused', fault: taken });
    expect(asking.state).toBe('asking');
    const decided = after(asking, { type: 'decided', choice: 'version' }, { type: 'goes-out' });
    expect(decided).toMatchObject({ state: 'sending', conflict: 'version' });
    expect(after(decided, { type: 'refused', fault: taken }).state).toBe('failed');
  });

  it('only waits for the word when it has arrived whole', () => {
    const sent: TransferEvent[] = [...OUT, { type: 'begun', url: '/u' }, { type: 'progress', sentBytes: 9 }];
    const whole = after(fresh(), ...sent, { type: 'refused', fault: taken });
    expect(isWhole(whole)).toBe(true);
    expect(after(whole, { type: 'decided', choice: 'keep-both' }).state).toBe('sending');
  });

  it('goes on by itself after it broke off, unless somebody paused it meanwhile', () => {
    const broken = after(fresh(), ...OUT, { type: 'progress', sentBytes: 3 }, { type: 'broke-off', fault: away });
    expect(broken).toMatchObject({ state: 'again', fault: away, tries: 1, sentBytes: 0 });
    expect(after(broken, { type: 'goes-on' })).toMatchObject({ state: 'waiting', fault: null });
    expect(after(broken, { type: 'pause' }, { type: 'goes-on' }).state).toBe('paused');
  });

  it('keeps what has arrived of an upload that has begun, and begins anew when that is gone', () => {
    const begun = after(fresh(), ...OUT, { type: 'begun', url: '/u' }, { type: 'progress', sentBytes: 3 });
    expect(after(begun, { type: 'broke-off', fault: away }).sentBytes).toBe(3);
    expect(after(begun, { type: 'pause' }, { type: 'resume' })).toMatchObject({ state: 'waiting', sentBytes: 3 });
    expect(after(begun, { type: 'vanished' })).toMatchObject({ state: 'waiting', url: null, sentBytes: 0 });
  });

  it('is not stirred by what comes too late', () => {
    const done = after(fresh(), ...OUT, { type: 'done' });
    const paused = after(fresh(), ...OUT, { type: 'pause' });
    const late: TransferEvent[] = [
      { type: 'broke-off', fault: away },
      { type: 'refused', fault: away },
      { type: 'vanished' },
    ];
    for (const event of [...late, { type: 'pause' }, { type: 'resume' }] as TransferEvent[])
      expect(after(done, event)).toEqual(done);
    for (const event of [...late, { type: 'progress', sentBytes: 2 }] as TransferEvent[])
      expect(after(paused, event)).toEqual(paused);
    // What arrived before the pause reached the server has arrived.
    expect(after(paused, { type: 'done' }).state).toBe('done');
  });

  it('needs its file after a reload, and is found by name, size and time', () => {
    const needs = fresh({ file: null, state: 'needs-file' });
    expect([isActive(needs), after(needs, { type: 'resume' }).state]).toEqual([false, 'needs-file']);
    expect(matching(needs, [{ file: new File(['abcd'], 'plan.pdf', { lastModified: 6 }) }])).toBeUndefined();
    expect(matching(needs, [{ file: new File(['abc'], 'plan.pdf', { lastModified: 5 }) }])).toBeUndefined();
    expect(matching(needs, [{ file }])?.file).toBe(file);
    expect(matching({ ...needs, lastModified: 0 }, [{ file: new File(['wxyz'], 'plan.pdf') }])).toBeDefined();
    expect(after(needs, { type: 'file-there', file, handle: null })).toMatchObject({ state: 'waiting', file });
  });
});
