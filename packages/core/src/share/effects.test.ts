import { describe, expect, it } from 'vitest';
import { changeEffects, lastingVisits, type InsideFacts } from './effects.js';
import { MAY_DOWNLOAD } from './may.js';

const NOW = Date.parse('2026-12-01T09:00:00Z');
const HOUR = 3_600_000;
const BEFORE: InsideFacts = {
  window: { opensAt: null, closesAt: NOW + HOUR },
  ...{
    visitLimit: null,
    visitsUsed: 4,
    audience: 'anyone',
    may: MAY_DOWNLOAD,
    address: 'https://files.saltmarsh.example',
  },
};
const effects = (part: Partial<InsideFacts>, list = false, before: Partial<InsideFacts> = {}, password = false) =>
  changeEffects({ ...BEFORE, ...before }, { ...BEFORE, ...part }, { list, password }, NOW);

describe('what a change does to those who are inside', () => {
  it('is nothing where it does nothing to them', () => {
    expect(effects({})).toEqual([]);
    expect(effects({ window: { opensAt: null, closesAt: null }, visitLimit: 9 })).toEqual([]);
    expect(effects({ may: { ...MAY_DOWNLOAD, level: 'edit' } })).toEqual([]);
  });
  it('is that they are out where it shuts, and nothing besides', () => {
    const out = ['Whoever is inside is out at once.'];
    expect(effects({ window: { opensAt: null, closesAt: NOW } })).toEqual(out);
    expect(effects({ window: { opensAt: NOW + 1, closesAt: null }, audience: 'listed' })).toEqual(out);
    // It was shut before.
    expect(effects({}, false, { window: { opensAt: null, closesAt: NOW - 1 } })).toEqual([]);
  });
  it('is told of whom it is for, of what they may, of visits and of the link', () => {
    expect(effects({ audience: 'listed' })[0]).toMatch(/not meant any more/);
    expect(effects({}, true)[0]).toMatch(/not meant any more/);
    // By another password everybody comes in anew, meant or not.
    expect(effects({ audience: 'listed' }, true, {}, true)).toEqual([
      'Whoever is inside is out at once, and comes in by the new password.',
    ]);
    expect(effects({ may: { ...MAY_DOWNLOAD, level: 'view' } })).toEqual(['What is being taken at that moment stops.']);
    const edit = { may: { ...MAY_DOWNLOAD, level: 'edit' as const } };
    expect(effects({}, false, edit)).toEqual(['What is on its way into it at that moment is not taken in.']);
    expect(effects({ may: { ...MAY_DOWNLOAD, watermark: 'others-plain' } })[0]).toMatch(/as the watermark says/);
    expect(effects({ visitLimit: 4 })).toEqual(['Nobody new is let in; whoever is inside stays.']);
    expect(effects({ visitLimit: 4 }, false, { visitLimit: 2 })).toEqual([]);
    expect(effects({ address: 'http://quay.local' })[0]).toMatch(/go on working/);
  });
});

it('visits last for twelve hours', () =>
  expect(lastingVisits([NOW, NOW - 12 * HOUR + 1, NOW - 12 * HOUR], NOW)).toBe(2));
