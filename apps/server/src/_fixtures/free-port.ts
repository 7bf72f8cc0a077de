import { connect } from 'node:net';
import { resolve } from 'node:path';

/** A port that nothing listens on (scripts/lib/test-database.mjs). */
export const { freePort } = (await import(
  resolve(import.meta.dirname, '../../../../scripts/lib/test-database.mjs')
)) as { freePort: () => Promise<number> };

/** Resolves once something answers there. */
export const answers = (at: number) =>
  new Promise<void>((resolve, reject) => {
    const socket = connect(at, '127.0.0.1', () => {
      socket.destroy();
      resolve();
    });
    socket.once('error', reject);
  });
