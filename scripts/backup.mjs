import { resolve, join } from 'node:path';
import { backUp } from './lib/backups.mjs';
import { dataFolder, requireNpmPackages, requirePrograms } from './lib/install.mjs';
import { withDatabase } from './lib/running.mjs';
import { fail, say } from './lib/words.mjs';

const megabytes = (bytes) => `${(bytes / 1e6).toFixed(1)} MB`;

export async function run(args) {
  const [target] = args.filter((a, i) => !a.startsWith('--') && args[i - 1] !== '--port');
  if (!target) fail('where to? ./quay backup FOLDER   (the same folder each time: only what is new is copied)');
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  return withDatabase(args, async (databaseUrl) => {
    const done = await backUp({
      databaseUrl,
      blobs: join(dataFolder(args), 'blobs'),
      key: join(dataFolder(args), 'sealing-key'),
      target: resolve(target),
      verifyAll: args.includes('--verify'),
      now: new Date(),
    });
    say(
      `Backed up to ${done.folder}: ${done.blobs} blobs (${megabytes(done.bytes)}), ${done.copied} of them new (${megabytes(done.copiedBytes)}), each compared with its checksum.`,
    );
    for (const hex of done.damaged) say(`not copied, because it is missing or damaged here: ${hex}`);
    return done.damaged.length ? 1 : 0;
  });
}
