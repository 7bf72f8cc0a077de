import type { VisitorFile } from '@quay/contract';

/** Up to so many files all folders are shown one below the other; more are walked through. */
const WALK_FROM = 40;

/** How somebody looks at the list. */
export interface View {
  /** What is looked for in names. */
  find: string;
  /** As pictures instead of a list. */
  pictures: boolean;
  /** The folder that is looked into, by its path; '': where the share begins. */
  folder: string;
  /** Ids of the files that are chosen. */
  chosen: readonly string[];
}
/** A folder, with all that is below it. */
export interface Inside {
  name: string;
  path: string;
  count: number;
  sizeBytes: number;
}

export const nameIn = (path: string): string => path.slice(path.lastIndexOf('/') + 1);
export const folderIn = (path: string): string => (path.includes('/') ? path.slice(0, path.lastIndexOf('/')) : '');
/** A path and those above it, the topmost first. */
const stepsTo = (path: string): string[] =>
  path === '' ? [] : path.split('/').map((_, n, names) => names.slice(0, n + 1).join('/'));

/** The folder that all of these lie in or are: a share of one folder begins in that. */
function commonFolder(folders: readonly string[]): string {
  const [one = '', ...others] = folders.map(stepsTo).sort((a, b) => a.length - b.length);
  return [...one].reverse().find((step) => others.every((steps) => steps.includes(step))) ?? '';
}

/**
 * What lies in a folder of a share with many files: the folders in it with all that is below them, and its own files.
 * Null: everything fits on one page. `way`: from where the share begins to there. A folder that is not there any more is the nearest one above it that is.
 */
export function walk(
  files: readonly VisitorFile[],
  asked: string,
): { way: string[]; folders: Inside[]; here: VisitorFile[] } | null {
  if (files.length < WALK_FROM || !files.some((f) => f.path.includes('/'))) return null;
  const first = commonFolder(files.map((f) => folderIn(f.path)));
  const isThere = (step: string) => files.some((f) => f.path.startsWith(`${step}/`));
  const found = stepsTo(asked).filter(isThere).at(-1) ?? '';
  const folder = first === '' || `${found}/`.startsWith(`${first}/`) ? found : first;
  const before = folder === '' ? '' : `${folder}/`;
  const folders = new Map<string, Inside>();
  const here: VisitorFile[] = [];
  for (const file of files) {
    if (!file.path.startsWith(before)) continue;
    const rest = file.path.slice(before.length);
    if (!rest.includes('/')) {
      here.push(file);
      continue;
    }
    const name = rest.slice(0, rest.indexOf('/'));
    const inside = folders.get(name) ?? { name, path: before + name, count: 0, sizeBytes: 0 };
    folders.set(name, { ...inside, count: inside.count + 1, sizeBytes: inside.sizeBytes + file.sizeBytes });
  }
  return {
    way: [first, ...stepsTo(folder).filter((step) => step.length > first.length)],
    folders: [...folders.values()],
    here,
  };
}

/** What of a view the page's address says, so that it can be bookmarked: "#pictures&in=Plans/Level%201". */
export function hashOf({ pictures, folder }: Pick<View, 'pictures' | 'folder'>): string {
  const parts = [pictures ? 'pictures' : '', folder && `in=${folder.split('/').map(encodeURIComponent).join('/')}`];
  const said = parts.filter((part) => part !== '').join('&');
  return said && `#${said}`;
}

export function viewOf(hash: string): Pick<View, 'pictures' | 'folder'> {
  const parts = new URLSearchParams(hash.replace(/^#/, ''));
  return { pictures: parts.has('pictures'), folder: parts.get('in') ?? '' };
}
