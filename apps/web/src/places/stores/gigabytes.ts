import { GIGABYTE } from '@quay/core';

/** Bytes as gigabytes for a field; empty for none. */
export const gigabytesField = (bytes: number | null): string => (bytes === null ? '' : String(bytes / GIGABYTE));

export const bytesOf = (gigabytes: number | null): number | null =>
  gigabytes === null ? null : Math.round(gigabytes * GIGABYTE);
