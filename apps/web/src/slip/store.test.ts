import { beforeEach, describe, expect, it, vi } from 'vitest';
import { useSlip, type SlipItem } from './store';

/** What a browser keeps beyond a reload. */
const storage = vi.hoisted(() => {
  const kept = new Map<string, string>();
  const localStorage = {
    getItem: (key: string) => kept.get(key) ?? null,
    setItem: (key: string, value: string) => void kept.set(key, value),
    removeItem: (key: string) => void kept.delete(key),
  };
  vi.stubGlobal('window', { localStorage });
  return kept;
});

const plan: SlipItem = { id: 'a', name: 'ML-101 ground floor.pdf', kind: 'file', sizeBytes: 7000 };
const photographs: SlipItem = { id: 'b', name: 'Photographs 2026.11', kind: 'folder', sizeBytes: 0 };
const slip = () => useSlip.getState();

describe('the slip', () => {
  beforeEach(() => slip().clear());

  it('takes each item once, in the order they came', () => {
    slip().put([plan]);
    slip().put([photographs, plan]);
    expect(slip().items.map((i) => i.id)).toEqual(['a', 'b']);
  });

  it('is named after the first item, without its extension, and keeps a name that was given', () => {
    slip().put([plan]);
    expect(slip().title).toBe('ML-101 ground floor');
    slip().set({ title: 'Revised plans' });
    slip().put([photographs]);
    expect(slip().title).toBe('Revised plans');
  });

  it('proposes a password as soon as there is something to guard, and another when asked', async () => {
    slip().put([plan]);
    await vi.waitFor(() => expect(slip().password).not.toBe(''));
    const first = slip().password;
    // Words of the list, as many bits as the sentence says.
    expect(first).toMatch(/^[a-z]+(-[a-z]+){2,}$/);
    expect(slip().proposedBits).toBeGreaterThan(30);
    await slip().propose();
    expect(slip().password).not.toBe(first);
  });

  it('does not propose one over what was typed', () => {
    slip().set({ passwordChoice: 'typed', password: '' });
    slip().put([plan]);
    expect([slip().passwordChoice, slip().password]).toEqual(['typed', '']);
  });

  it('a proposal takes back that a weak one was meant', async () => {
    slip().set({ passwordChoice: 'typed', password: '123456', weakPasswordMeant: true });
    await slip().propose();
    expect([slip().passwordChoice, slip().weakPasswordMeant]).toEqual(['proposed', false]);
  });

  it('what is taken off is off, the rest stays', () => {
    slip().put([plan, photographs]);
    slip().takeOff('a');
    slip().takeOff('not there');
    expect(slip().items).toEqual([photographs]);
  });

  it('opens when something is put on it, and forgets what was published before', () => {
    slip().fold(true);
    slip().set({ published: { sheet: {} as never, password: 'secret' } });
    slip().put([plan]);
    expect([slip().folded, slip().published]).toEqual([false, null]);
  });

  it('when cleared, is as it was before anything', () => {
    slip().put([plan]);
    slip().set({ message: 'As agreed', limitField: '3', choice: 'custom', addressId: 'x' });
    slip().clear();
    expect(slip()).toMatchObject({
      items: [],
      title: '',
      message: '',
      limitField: '',
      choice: '1-week',
      addressId: '',
    });
  });
});

describe('what the browser keeps of it', () => {
  const kept = () => storage.get('quay-slip') ?? '';
  beforeEach(() => slip().clear());

  it('is what was put together, and never a password', () => {
    slip().put([plan]);
    slip().set({ message: 'As agreed', passwordChoice: 'typed', password: 'weir-lantern-copper-tide' });
    expect(kept()).toContain('As agreed');
    expect(kept()).not.toContain('lantern');
  });

  it('is nothing of what was published: a reload puts it on no slip again', () => {
    slip().put([plan]);
    slip().set({ published: { sheet: { link: '/s/secret' } as never, password: 'weir-lantern' } });
    expect(JSON.parse(kept())).toMatchObject({ state: { folded: false } });
    expect(kept()).not.toMatch(/secret|lantern|ML-101/);
  });
});
