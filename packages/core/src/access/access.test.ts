import { describe, expect, it } from 'vitest';
import { ACCESS_LEVELS, highest, includes, storeLevel } from './access.js';

const staff = { personId: 'p', role: 'staff' as const, groupIds: ['crew'] };
const admin = { personId: 'a', role: 'admin' as const, groupIds: [] };

describe('levels', () => {
  it('include those before them, and nothing includes more than itself', () => {
    ACCESS_LEVELS.forEach((level, i) =>
      ACCESS_LEVELS.forEach((needed, j) => expect(includes(level, needed)).toBe(i >= j)),
    );
    expect(includes(null, 'view')).toBe(false);
  });
  it('the highest wins', () => expect([highest(['view', 'edit', 'download']), highest([])]).toEqual(['edit', null]));
});

describe('the level on a store', () => {
  const common = { kind: 'common' as const, ownerId: null };
  const home = { kind: 'home' as const, ownerId: 'p' };
  it('a home belongs to its owner alone, whatever is granted, also before the admin', () => {
    expect(storeLevel(staff, home, [])).toBe('manage');
    expect(storeLevel(admin, home, [{ personId: 'a', groupId: null, level: 'manage' }])).toBeNull();
  });
  it('the admin manages common stores, and reads no sealed ones', () => {
    expect(storeLevel(admin, common, [])).toBe('manage');
    expect(storeLevel(admin, { kind: 'sealed', ownerId: null }, [])).toBeNull();
  });
  it("staff have the highest of their own grants, their groups' and everybody's", () => {
    const grants = [
      { personId: null, groupId: null, level: 'view' as const },
      { personId: null, groupId: 'crew', level: 'edit' as const },
      { personId: 'other', groupId: null, level: 'manage' as const },
    ];
    expect(storeLevel(staff, common, grants)).toBe('edit');
    expect(storeLevel({ ...staff, groupIds: [] }, common, grants)).toBe('view');
    expect(storeLevel(staff, common, [])).toBeNull();
  });
});
