import { mendName, nameFault, normalizeName, PATH_FAULT_WORDS, pathFault } from '../file-name/file-name.js';
import { utf8Bytes } from '../text/utf8.js';

/**
 * The path under which a file is taken that somebody hands in: every name in it is one that all desktops can hold, so
 * that nothing in it leads elsewhere or passes for something else; one that is not is mended.
 * @param folders those that it came in, parted by "/"
 * @returns the path, parted by "/"; or why it cannot be taken, in words
 */
export function handedPath(folders: string, name: string): { path: string } | { fault: string } {
  const names = [...folders.split('/').filter((part) => part !== '' && part !== '.'), name].map((part) => {
    const normal = normalizeName(part.toWellFormed());
    return nameFault(normal) === null ? normal : mendName(part);
  });
  const path = names.join('/');
  const fault = pathFault({ levels: names.length, bytes: utf8Bytes(path).length });
  return fault === null ? { path } : { fault: PATH_FAULT_WORDS[fault] };
}

/** The folders of such a path, and its name. */
export function placeOfHanded(path: string): { below: string[]; name: string } {
  const names = path.split('/');
  return { below: names.slice(0, -1), name: names.at(-1) as string };
}
