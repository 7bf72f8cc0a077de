import { nameFault, NAME_FAULT_WORDS, normalizeName, type NameFault } from '../file-name/file-name.js';
import { formatSize } from '../text/size.js';

/** Quotas and largest files, as they are typed: in gigabytes (IEC 80000-13: 10^9 bytes), up to a million of them. */
export const GIGABYTES_RANGE = { min: 0, max: 1_000_000, whole: false } as const;
export const GIGABYTE = 1e9;

/** What a store takes in; null and an empty list: anything. */
export interface StorePolicy {
  /** Extensions in small letters without the dot; empty: all. */
  allowedTypes: readonly string[];
  largestFileBytes: number | null;
}

/** What room there is for new bytes, each null where nothing limits it. */
export interface Room {
  storeLeftBytes: number | null;
  personLeftBytes: number | null;
  /** Of the folder for what goes out, where they come into it. */
  outgoingLeftBytes?: number | null;
  diskFreeBytes: number;
}

export type AdmissionFault = NameFault | 'type.not-allowed' | 'file.too-large' | RoomFault;
export type RoomFault = 'quota.store' | 'quota.person' | 'quota.outgoing' | 'disk.full';

/** A file's extension as policies name it: "pdf"; empty when there is none. */
export function extensionOf(name: string): string {
  const dot = name.lastIndexOf('.');
  return dot > 0 ? name.slice(dot + 1).toLowerCase() : '';
}

/** Why one file would be refused before a byte of it moves; null when nothing speaks against it. */
export function fileFault(file: { name: string; sizeBytes: number }, policy: StorePolicy): AdmissionFault | null {
  const name = nameFault(normalizeName(file.name));
  if (name) return name;
  if (policy.allowedTypes.length > 0 && !policy.allowedTypes.includes(extensionOf(file.name)))
    return 'type.not-allowed';
  if (policy.largestFileBytes !== null && file.sizeBytes > policy.largestFileBytes) return 'file.too-large';
  return null;
}

/**
 * Why that many further bytes find no room; null when they do. The narrowest limit that somebody can change comes
 * first.
 */
export function roomFault(bytes: number, room: Room): RoomFault | null {
  if (room.personLeftBytes !== null && bytes > room.personLeftBytes) return 'quota.person';
  if (room.storeLeftBytes !== null && bytes > room.storeLeftBytes) return 'quota.store';
  if (bytes > (room.outgoingLeftBytes ?? Infinity)) return 'quota.outgoing';
  if (bytes > room.diskFreeBytes) return 'disk.full';
  return null;
}

/** What is left of a quota; null when there is none. Never below 0. */
export function quotaLeft(quotaBytes: number | null, usedBytes: number): number | null {
  return quotaBytes === null ? null : Math.max(0, quotaBytes - usedBytes);
}

/** The refusal in words. */
export function admissionWords(fault: AdmissionFault, policy: StorePolicy, room?: Room): string {
  switch (fault) {
    case 'type.not-allowed':
      return `This store takes only ${policy.allowedTypes.map((t) => `.${t}`).join(', ')}.`;
    case 'file.too-large':
      return `This store takes files up to ${formatSize(policy.largestFileBytes ?? 0)}.`;
    case 'quota.person':
      return `That is more than the ${formatSize(room?.personLeftBytes ?? 0)} left of your quota. Delete old files for good, or ask for more.`;
    case 'quota.store':
      return `That is more than the ${formatSize(room?.storeLeftBytes ?? 0)} left of this store's quota.`;
    case 'quota.outgoing':
      return `That is more than the ${formatSize(room?.outgoingLeftBytes ?? 0)} left in Outgoing. Take out what nobody needs any more, or share it from a store.`;
    case 'disk.full':
      return `The server has room for ${formatSize(room?.diskFreeBytes ?? 0)} more; that is larger.`;
    default:
      return NAME_FAULT_WORDS[fault];
  }
}
