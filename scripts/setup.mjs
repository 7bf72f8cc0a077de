import { existsSync, mkdirSync } from 'node:fs';
import { resolve } from 'node:path';
import { dataFolder } from './lib/install.mjs';
import { installedRelease, runProgram, withOffice } from './lib/office.mjs';
import { fail, option } from './lib/words.mjs';

/** The first start without a browser; asked again, it changes nothing. */
export async function run(args) {
  const file = option(args, '--answers', null);
  if (!file) fail('which answers? ./quay setup --answers FILE   (docs/setup.yaml is one to begin with)');
  if (!existsSync(file)) fail(`there is no file ${file}.`);
  if (!installedRelease()) mkdirSync(dataFolder(args), { recursive: true });
  return withOffice(args, (env, user) => runProgram('setup/main.js', [resolve(file)], env, user), { make: true });
}
