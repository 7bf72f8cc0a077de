import { actsOf } from '@quay/core';
import type { NodeItem } from '@quay/contract';
import { describe, expect, it } from 'vitest';
import { mayIn } from './may';

const item = (mine: boolean) => ({ mine }) as NodeItem;
const head = (level: 'contribute' | 'download') => {
  const { all, own } = actsOf(level, 'nothing');
  return { acts: [...all], own: [...own] };
};

describe('what a page offers', () => {
  it('to somebody who adds files is to change what they brought, and only that', () => {
    const may = mayIn(head('contribute'));
    expect([may('add'), may('change'), may('change', [])]).toEqual([true, false, false]);
    expect([may('change', [item(true)]), may('change', [item(true), item(false)])]).toEqual([true, false]);
    expect(may('publish', [item(true)])).toBe(false);
  });
  it('is nothing while the folder is not known', () => {
    expect([mayIn(null)('see'), mayIn(undefined)('see', [item(true)])]).toEqual([false, false]);
    expect(mayIn(head('download'))('read', [item(false)])).toBe(true);
  });
});
