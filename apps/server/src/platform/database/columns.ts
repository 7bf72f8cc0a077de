import type { ValueTransformer } from 'typeorm';

/** bigint columns as numbers: sizes and sequence numbers here stay far below 2^53. */
export const asNumber: ValueTransformer = {
  to: (value: number | null) => value,
  from: (value: string | null) => (value === null ? null : Number(value)),
};
