import { mkdir } from 'node:fs/promises';
import { dirname } from 'node:path';

/**
 * Makes a folder, and those above it that are missing, for their owner alone. What Node.js offers for that never ends
 * where nothing can be made, as below /proc.
 */
export async function makeFolder(path: string): Promise<void> {
  try {
    await mkdir(path, { mode: 0o700 });
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === 'EEXIST') return;
    if (code !== 'ENOENT' || dirname(path) === path) throw error;
    await makeFolder(dirname(path));
    await mkdir(path, { mode: 0o700 });
  }
}
