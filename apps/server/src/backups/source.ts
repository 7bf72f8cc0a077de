import { dirname, join } from 'node:path';
import type { Config } from '../platform/config.js';
import type { Source } from './copying/make.js';

/** Where the office's data lie; the server's own identity is made when there is none. */
export type SourceOrder = Omit<Source, 'identity'> & { identityFile: string };

export const sourceOf = (config: Config): SourceOrder => ({
  databaseUrl: config.databaseUrl,
  blobRoot: config.blobRoot,
  keyFile: config.keyFile,
  identityFile: join(dirname(config.keyFile), 'backup-identity'),
});
