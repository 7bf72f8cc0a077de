import { resolve } from 'node:path';

/** A port that nothing listens on (scripts/lib/test-database.mjs). */
export const { freePort } = (await import(
  resolve(import.meta.dirname, '../../../../scripts/lib/test-database.mjs')
)) as { freePort: () => Promise<number> };
