import { join, resolve } from 'node:path';
import { copier } from './lib/copier.mjs';
import { withOffice } from './lib/office.mjs';
import { fail, options, positional, say } from './lib/words.mjs';

const megabytes = (bytes) => `${(bytes / 1e6).toFixed(1)} MB`;

export async function run(args) {
  const [target] = positional(args, ['--port', '--to']);
  if (!target)
    fail(
      'where to? ./quay backup FOLDER [--to age1...] (the same folder each time: only what is new is copied; --to encrypts)',
    );
  return withOffice(args, async (env, user) => {
    const make = {
      target: resolve(target),
      recipients: options(args, '--to'),
      kept: null,
      zone: 'UTC',
      mayClaim: true,
      verifyAll: args.includes('--verify'),
      at: new Date().toISOString(),
    };
    // The source is that of the environment.
    const done = await copier({ kind: 'make', source: null, make }, env, user);
    say(
      `Backed up to ${join(make.target, done.stamp)}: ${done.files} files (${megabytes(done.bytes)}), ${done.copied} of them new (${megabytes(done.copiedBytes)}) and read back.`,
    );
    for (const hex of done.damaged) say(`not copied, because it is missing or damaged here: ${hex}`);
    return done.damaged.length ? 1 : 0;
  });
}
