import { describe, expect, it } from 'vitest';
import {
  initialsOf,
  isZone,
  leftToDo,
  placeVerdict,
  SIGN_IN_NAME,
  signInNameFor,
  strangerIn,
  type PlaceFacts,
} from '../index.js';

const disk: PlaceFacts = {
  fileSystem: 'ext4',
  freeBytes: 3.6e12,
  bytesPerSecond: 410e6,
  systemDisk: false,
  refused: null,
};

describe('where bytes lie', () => {
  it('is good on a disk of one’s own with room', () => {
    expect(placeVerdict(disk)).toEqual({
      mark: 'ok',
      words: 'ext4, local disk, 410 MB/s written and flushed',
      takeable: true,
    });
    expect(placeVerdict({ ...disk, bytesPerSecond: null, systemDisk: true }).words).toBe("ext4, the system's own disk");
  });
  it('is told to fill up soon', () => {
    expect(placeVerdict({ ...disk, systemDisk: true, freeBytes: 18e9 })).toMatchObject({
      mark: 'warn',
      words: "the system's own disk: full in about 5 weeks at 500 MB a day",
    });
  });
  // The names are those of the kernel's file systems, as /proc/mounts shows them (proc(5)).
  it.each(['nfs', 'nfs4', 'cifs', 'smb3', '9p', 'fuse.sshfs', 'ceph'])('is not %s, another machine', (fileSystem) => {
    expect(placeVerdict({ ...disk, fileSystem })).toMatchObject({ mark: 'fail' });
  });
  it.each(['ext4', 'xfs', 'btrfs', 'zfs'])('may be %s', (fileSystem) => {
    expect(placeVerdict({ ...disk, fileSystem }).mark).toBe('ok');
  });
  it('is not memory, not a disk without owners, not full, not one that refuses', () => {
    expect(placeVerdict({ ...disk, fileSystem: 'tmpfs' }).mark).toBe('fail');
    expect(placeVerdict({ ...disk, fileSystem: 'vfat' }).mark).toBe('fail');
    expect(placeVerdict({ ...disk, freeBytes: 1e9 })).toMatchObject({ mark: 'fail', words: 'nearly full: 1 GB left' });
    expect(placeVerdict({ ...disk, refused: 'permission denied' }).words).toBe('cannot be used: permission denied');
  });
  it('may be taken all the same, but not where nothing stays or nothing can be kept', () => {
    expect(placeVerdict({ ...disk, fileSystem: 'nfs4' }).takeable).toBe(true);
    expect(placeVerdict({ ...disk, fileSystem: 'tmpfs' }).takeable).toBe(false);
    expect(placeVerdict({ ...disk, refused: 'it is full' }).takeable).toBe(false);
  });
  it('is a folder of its own', () => {
    expect(strangerIn([])).toBeNull();
    expect(strangerIn(['tmp', '0a', 'ff', 'lost+found'])).toBeNull();
    expect(strangerIn(['tmp', 'etc', 'home'])).toBe('etc');
  });
  it('is warned of when slow, or part of a container', () => {
    expect(placeVerdict({ ...disk, bytesPerSecond: 8e6 })).toMatchObject({
      mark: 'warn',
      words: 'slow: 8 MB/s written and flushed',
    });
    expect(placeVerdict({ ...disk, fileSystem: 'overlay' }).mark).toBe('warn');
  });
});

describe('names of people', () => {
  it.each([
    ['Iris Ward', 'IW'],
    ['Tomas', 'TO'],
    ['Ana María de la Cruz', 'AC'],
    ['Jean-Luc', 'JL'],
    ['Åse', 'ÅS'],
    ['X', 'X'],
    ['…', '?'],
  ])('%s is short for %s', (name, initials) => expect(initialsOf(name)).toBe(initials));
  it.each([
    ['Iris Ward', 'iris'],
    ['Ísold Þórsdóttir', 'isold'],
    ['李', ''],
    ['Z', ''],
  ])('%s signs in as "%s"', (name, signIn) => expect(signInNameFor(name)).toBe(signIn));
  it('that can be typed', () => {
    for (const good of ['iris', 'j.ward', 'a1', 'mary-ann']) expect(SIGN_IN_NAME.test(good)).toBe(true);
    for (const bad of ['i', '.iris', 'iris-', 'Iris', 'iris ward', 'a'.repeat(41)])
      expect(SIGN_IN_NAME.test(bad)).toBe(false);
  });
});

describe('zones', () => {
  // Names of the IANA time zone database, its aliases included.
  it.each(['Europe/London', 'America/Argentina/Buenos_Aires', 'UTC', 'Asia/Calcutta'])('%s is one', (zone) =>
    expect(isZone(zone)).toBe(true),
  );
  it.each(['Europe/Londn', '', '+02:00', 'GMT+25'])('"%s" is none', (zone) => expect(isZone(zone)).toBe(false));
});

describe('what is left to do', () => {
  const nothing = {
    mail: false,
    reached: false,
    insideOnly: false,
    files: false,
    shares: false,
    backups: false,
    factor: false,
  };
  it('is everything at first, and nothing in the end', () => {
    expect(leftToDo(nothing)).toEqual(['files', 'share', 'reach', 'mail', 'backup', 'factor']);
    expect(
      leftToDo({
        mail: true,
        reached: true,
        insideOnly: false,
        files: true,
        shares: true,
        backups: true,
        factor: true,
      }),
    ).toEqual([]);
  });
  it.each([
    ['insideOnly', 'reach'],
    ['reached', 'reach'],
    ['mail', 'mail'],
    ['files', 'files'],
    ['shares', 'share'],
    ['backups', 'backup'],
    ['factor', 'factor'],
  ] as const)('with %s it is not %s any more', (fact, kind) => {
    expect(leftToDo({ ...nothing, [fact]: true })).toEqual(leftToDo(nothing).filter((left) => left !== kind));
  });
});
