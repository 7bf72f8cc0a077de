import { formatSize } from '../text/size.js';

/** What is packed in an archive, as far as it was looked into. */
export interface Packed {
  /** Bytes of the archive itself. */
  bytes: number;
  /** What it unpacks to: measured up to a limit, beyond it as it says of itself. */
  unpackedBytes: number;
  /** Files in it, with those of archives in it. */
  entries: number;
  /** 1: no archive is in it; 2: archives are; and so on. */
  depth: number;
  /** Something unpacks to more than it says, or parts of it are used twice. */
  lies: boolean;
}

/** As deep as is looked into, and as many files: what is beyond is nothing that anybody hands in by hand. */
export const ARCHIVE_LIMITS = { depth: 3, entries: 100_000 } as const;
/** Text seldom shrinks to less than a hundredth, and an empty picture is small (common practice, no source). */
const MOST_TIMES = 200;
/** Less than that does no harm however often it is repeated. */
const HARMLESS_BYTES = 50_000_000;

/** Why an archive is not to be unpacked without a thought, after its name; null: nothing is against it. */
export function archiveFault({ bytes, unpackedBytes, entries, depth, lies }: Packed): string | null {
  if (lies) return 'says of itself that less is in it than there is';
  if (depth > ARCHIVE_LIMITS.depth) return 'holds archives in archives, deeper than anybody looks';
  if (entries > ARCHIVE_LIMITS.entries)
    return `holds more than ${ARCHIVE_LIMITS.entries.toLocaleString('en-GB')} files`;
  if (unpackedBytes > HARMLESS_BYTES && unpackedBytes > MOST_TIMES * bytes)
    return `unpacks from ${formatSize(bytes)} to ${formatSize(unpackedBytes)}`;
  return null;
}
