import type { HealthLine } from '@quay/core';

/** How the server is, as it was looked at. */
export interface Health {
  at: string;
  /** The worst of the lines. */
  mark: 'ok' | 'warn' | 'fail';
  lines: HealthLine[];
}
