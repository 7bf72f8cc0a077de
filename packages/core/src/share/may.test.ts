import { describe, expect, it } from 'vitest';
import { bringsFiles, MAY_DOWNLOAD, nowhereToAdd, SHARE_LEVELS, visitorActs, type ShareMay } from './may.js';

const may = (part: Partial<ShareMay>): ShareMay => ({ ...MAY_DOWNLOAD, ...part });

describe('what visitors may do', () => {
  it('is what the level of that name lets people do, without publishing and removing (access.md)', () => {
    expect(visitorActs(may({ level: 'view' }))).toEqual({ all: ['see'], own: ['see'] });
    expect(visitorActs(may({ level: 'download' }))).toEqual({ all: ['see', 'read'], own: ['see', 'read'] });
    expect(visitorActs(may({ level: 'contribute' }))).toEqual({
      all: ['see', 'read', 'add'],
      own: ['see', 'read', 'add', 'change', 'remove'],
    });
    expect(visitorActs(may({ level: 'contribute', seesOthers: false })).all).toEqual(['add']);
    expect(visitorActs(may({ level: 'edit', seesOthers: false })).all).toEqual(['see', 'read', 'add', 'change']);
  });
  it('lets nobody with a link publish, manage, or remove what others brought', () => {
    for (const level of SHARE_LEVELS)
      for (const seesOthers of [true, false]) {
        const { all, own } = visitorActs(may({ level, seesOthers }));
        expect(all).not.toEqual(expect.arrayContaining(['remove']));
        for (const act of ['publish', 'manage'] as const) expect([...all, ...own]).not.toContain(act);
      }
  });
});

describe('where files could be brought', () => {
  const folder = (frozen: boolean) => ({ kind: 'folder' as const, frozen });
  const file = { kind: 'file' as const, frozen: false };
  it('is a folder that is served as it is; an empty share is filled later', () => {
    expect(nowhereToAdd({ level: 'contribute' }, [folder(false), file])).toBeNull();
    expect(nowhereToAdd({ level: 'contribute' }, [])).toBeNull();
    expect(nowhereToAdd({ level: 'contribute' }, [folder(true), file])).toMatch(/no folder/);
    // A single file can be replaced, though nothing can be added beside it.
    expect(nowhereToAdd({ level: 'edit' }, [file])).toBeNull();
    expect(nowhereToAdd({ level: 'edit' }, [{ ...file, frozen: true }, folder(true)])).toMatch(/frozen/);
  });
  it('matters only where something may be brought', () => {
    expect(nowhereToAdd({ level: 'download' }, [file])).toBeNull();
    expect(SHARE_LEVELS.filter((level) => bringsFiles({ level }))).toEqual(['contribute', 'edit']);
  });
});
