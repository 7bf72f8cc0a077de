import { log } from './log/log.js';

/** Work that nobody waits for: what goes wrong with it is told to the log, and ends nothing else. */
export function aside(work: Promise<unknown>, failed: string): void {
  work.catch((error: unknown) => log.warn({ err: error }, failed));
}

/**
 * The last net under every promise that is waited for by nobody: it is told, and the server goes on. A thrown error
 * that nobody caught still ends the process, because nobody knows what it left half done.
 */
export function surviveRejections(): void {
  process.on('unhandledRejection', (error) =>
    log.error({ err: error }, 'a promise was refused and nobody waited for it'),
  );
}
