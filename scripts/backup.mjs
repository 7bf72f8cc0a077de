import { join, resolve } from 'node:path';
import { copier } from './lib/copier.mjs';
import { build, dataFolder, requireNpmPackages, requirePrograms } from './lib/install.mjs';
import { withDatabase } from './lib/running.mjs';
import { fail, options, positional, say } from './lib/words.mjs';

const megabytes = (bytes) => `${(bytes / 1e6).toFixed(1)} MB`;

/** The data of an office, as the program that copies takes it. */
export const sourceIn = (folder, databaseUrl) => ({
  databaseUrl,
  blobRoot: join(folder, 'blobs'),
  keyFile: join(folder, 'sealing-key'),
  identityFile: join(folder, 'backup-identity'),
});

export async function run(args) {
  const [target] = positional(args, ['--port', '--to']);
  if (!target)
    fail(
      'where to? ./quay backup FOLDER [--to age1...] (the same folder each time: only what is new is copied; --to encrypts)',
    );
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  return withDatabase(args, async (databaseUrl) => {
    const make = {
      target: resolve(target),
      recipients: options(args, '--to'),
      kept: null,
      zone: 'UTC',
      mayClaim: true,
      verifyAll: args.includes('--verify'),
      at: new Date().toISOString(),
    };
    const done = await copier({ kind: 'make', source: sourceIn(dataFolder(args), databaseUrl), make });
    say(
      `Backed up to ${join(make.target, done.stamp)}: ${done.files} files (${megabytes(done.bytes)}), ${done.copied} of them new (${megabytes(done.copiedBytes)}) and read back.`,
    );
    for (const hex of done.damaged) say(`not copied, because it is missing or damaged here: ${hex}`);
    return done.damaged.length ? 1 : 0;
  });
}
