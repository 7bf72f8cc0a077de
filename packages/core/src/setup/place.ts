import { formatSize } from '../text/size.js';

/** What is known of a folder in which the bytes of an office could lie. */
export interface PlaceFacts {
  /** As the kernel names it: "ext4", "nfs4", "fuse.sshfs". */
  fileSystem: string;
  freeBytes: number;
  /** Written and flushed a second, as measured; null: not measured. */
  bytesPerSecond: number | null;
  /** Whether the system itself lies on the same disk. */
  systemDisk: boolean;
  /** Why nothing can be kept there: what the operating system said, or what lies there already; null: it can. */
  refused: string | null;
}

export interface PlaceVerdict {
  mark: 'ok' | 'warn' | 'fail';
  words: string;
  /** Whether it may be taken all the same, by who knows better. */
  takeable: boolean;
}

/** File systems of other machines: flushing and locking are not what they are on a disk of one's own (common practice, no source). */
const NETWORK =
  /^(nfs\d?|cifs|smb\d?|smbfs|9p|ceph|glusterfs|afs|ncpfs|lustre|davfs|fuse\.(sshfs|s3fs|rclone|davfs2?|glusterfs))$/;
/** What is in them is gone when the machine starts again. */
const IN_MEMORY = new Set(['tmpfs', 'ramfs', 'devtmpfs']);
/** Layers of a container: gone with it. */
const OF_A_CONTAINER = new Set(['overlay', 'aufs', 'fuse.fuse-overlayfs']);
/** File systems without owners and rights of files. */
const WITHOUT_RIGHTS = new Set(['vfat', 'exfat', 'msdos', 'fuseblk', 'ntfs', 'ntfs3']);

/** Less is full before anybody has settled in. */
const LEAST_FREE = 2e9;
/** Below, large files are a pain: a telephone's card, a worn disk. */
const SLOW = 20e6;
/** What an office of this size is taken to add in a day, to say how long a disk lasts (common practice, no source). */
const DAILY = 500e6;
const WARN_WEEKS = 26;

/** What a folder of bytes holds: its folders, what is under way, and what a file system puts into each of its roots. */
const OF_BYTES = /^(tmp|[0-9a-f]{2}|lost\+found)$/;

/** Something in a folder that is not of bytes; null where they would be among themselves. Old files in it are swept. */
export const strangerIn = (names: readonly string[]): string | null => names.find((n) => !OF_BYTES.test(n)) ?? null;

/** Whether bytes can lie there, and what to know of it. */
export function placeVerdict(facts: PlaceFacts): PlaceVerdict {
  return { ...judged(facts), takeable: facts.refused === null && !IN_MEMORY.has(facts.fileSystem) };
}

function judged(facts: PlaceFacts): Omit<PlaceVerdict, 'takeable'> {
  const { fileSystem, freeBytes, bytesPerSecond, systemDisk, refused } = facts;
  if (refused !== null) return { mark: 'fail', words: `cannot be used: ${refused}` };
  if (IN_MEMORY.has(fileSystem))
    return { mark: 'fail', words: 'lies in memory: everything is gone when the machine starts again' };
  if (NETWORK.test(fileSystem))
    return {
      mark: 'fail',
      words: `network file system (${fileSystem}): locks and flushes are not safe there`,
    };
  if (WITHOUT_RIGHTS.has(fileSystem))
    return { mark: 'fail', words: `${fileSystem} keeps no owners of files: everybody on this machine could read them` };
  if (freeBytes < LEAST_FREE) return { mark: 'fail', words: `nearly full: ${formatSize(freeBytes)} left` };
  if (OF_A_CONTAINER.has(fileSystem))
    return { mark: 'warn', words: 'belongs to a container: everything is gone when that is made anew' };
  if (bytesPerSecond !== null && bytesPerSecond < SLOW)
    return { mark: 'warn', words: `slow: ${formatSize(bytesPerSecond)}/s written and flushed` };
  const weeks = Math.floor(freeBytes / DAILY / 7);
  const disk = systemDisk ? "the system's own disk" : 'local disk';
  if (weeks < WARN_WEEKS)
    return { mark: 'warn', words: `${disk}: full in about ${weeks} weeks at ${formatSize(DAILY)} a day` };
  const speed = bytesPerSecond === null ? '' : `, ${formatSize(bytesPerSecond)}/s written and flushed`;
  return { mark: 'ok', words: `${fileSystem}, ${disk}${speed}` };
}
