import { describe, expect, it } from 'vitest';
import { factorIsWanted, mayBeSignedIn, readFactorCode, recoveryCodesFrom, type FactorWanted } from '../index.js';

describe('a second factor', () => {
  it.each([
    ['nobody', []],
    ['admins', ['admin']],
    ['staff', ['admin', 'staff']],
    ['everybody', ['admin', 'staff', 'guest']],
  ] as [FactorWanted, string[]][])('wanted from %s', (wanted, from) =>
    expect((['admin', 'staff', 'guest'] as const).filter((role) => factorIsWanted(wanted, role))).toEqual(from),
  );
  it('decides outside alone, and there by the rule', () => {
    for (const factor of [true, false]) {
      expect(mayBeSignedIn('nobody', { outside: false, factor })).toBe(true);
      expect(mayBeSignedIn('nobody', { outside: true, factor })).toBe(false);
      expect(mayBeSignedIn('factor', { outside: true, factor })).toBe(factor);
      expect(mayBeSignedIn('everybody', { outside: true, factor })).toBe(true);
    }
  });
});

describe('recovery codes', () => {
  /** Bytes in turn, all 256 of them. */
  const counting = () => {
    let next = -1;
    return () => (next += 1) % 256;
  };
  it('are ten, and can be read out and typed back in any manner', () => {
    const codes = recoveryCodesFrom(counting());
    expect(codes).toHaveLength(10);
    expect(codes[0]).toBe('abcde-fghjk');
    for (const code of codes) {
      expect(code).toMatch(/^[a-hjkmnp-z2-9]{5}-[a-hjkmnp-z2-9]{5}$/);
      const sound = { kind: 'recovery', code: code.replace('-', '') };
      for (const typed of [code, code.toUpperCase(), code.replace('-', ' '), ` ${code.replace('-', '')}\n`])
        expect(readFactorCode(typed)).toEqual(sound);
    }
  });
  it('use each letter as often as any other', () => {
    const letters = recoveryCodesFrom(counting()).join('').replaceAll('-', '');
    const counts = new Map<string, number>();
    for (const letter of letters.slice(0, 93)) counts.set(letter, (counts.get(letter) ?? 0) + 1);
    expect(new Set(counts.values())).toEqual(new Set([3]));
    expect(counts.size).toBe(31);
  });
});

it('reads six digits however they are grouped, and nothing else', () => {
  expect(readFactorCode('123 456')).toEqual({ kind: 'code', code: '123456' });
  expect(readFactorCode('012-345')).toEqual({ kind: 'code', code: '012345' });
  for (const typed of ['', '12345', '1234567', 'abcde', 'ooooo-ooooo', '１２３４５６', 'abcde-fghjkm'])
    expect(readFactorCode(typed)).toBeNull();
});
