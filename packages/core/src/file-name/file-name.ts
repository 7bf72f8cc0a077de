import { utf8Bytes } from '../text/utf8.js';

export type NameFault =
  | 'name.empty'
  | 'name.too-long'
  | 'name.dots'
  | 'name.separator'
  | 'name.control-character'
  | 'name.forbidden-character'
  | 'name.reserved'
  | 'name.trailing-dot-or-space'
  | 'name.leading-space'
  | 'name.not-unicode';

/**
 * The longest name: 255 bytes of UTF-8, the limit of the common Linux file systems (and within those of the others).
 */
export const NAME_MAX_BYTES = 255;

// Microsoft, "Naming Files, Paths, and Namespaces": device names, alone or before an extension; the superscript digits
// too. Spaces between a device's name and its extension are dropped by Windows, so that "con .txt" is the device too.
const RESERVED = /^(con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])\s*(\..*)?$/i;
// The same source: < > : " | ? * and both slashes.
const FORBIDDEN = /[<>:"|?*]/;
// Control characters (C0, DEL, C1), line and paragraph separators, and what cannot be seen: marks of direction
// (Unicode's Bidi_Control, U+061C among them), zero-width spaces, soft hyphens, fillers, tags, variation selectors that
// stand for nothing (Unicode TR 36 §2.10, UTS #39 §3.1, property Default_Ignorable_Code_Point). The zero-width joiner
// and non-joiner are letters of some scripts and signs: they stay where something stands on both sides.
const CONTROL =
  // eslint-disable-next-line no-control-regex, no-misleading-character-class
  /[\u0000-\u001f\u007f-\u009f\u2028\u2029]|(?![\u200c\u200d\ufe0e\ufe0f])\p{Default_Ignorable_Code_Point}|[\p{Bidi_Control}]|^[\u200c\u200d\ufe0e\ufe0f]|[\u200c\u200d](?=[\u200c\u200d.]|$)/u;

/** Names are kept in Unicode's composed form (NFC), so that the same name typed on two systems is one name. */
export function normalizeName(name: string): string {
  return name.normalize('NFC');
}

/** Why a name cannot be kept on Windows, macOS and Linux alike; null when it can. Expects a normalised name. */
export function nameFault(name: string): NameFault | null {
  if (name === '') return 'name.empty';
  if (!name.isWellFormed()) return 'name.not-unicode';
  if (utf8Bytes(name).length > NAME_MAX_BYTES) return 'name.too-long';
  if (/^\.{1,2}$/.test(name)) return 'name.dots';
  if (/[/\\]/.test(name)) return 'name.separator';
  if (CONTROL.test(name)) return 'name.control-character';
  if (FORBIDDEN.test(name)) return 'name.forbidden-character';
  if (RESERVED.test(name)) return 'name.reserved';
  if (/[.\s]$/.test(name)) return 'name.trailing-dot-or-space';
  if (/^\s/.test(name)) return 'name.leading-space';
  return null;
}

export const NAME_FAULT_WORDS: Record<NameFault, string> = {
  'name.empty': 'A name is needed.',
  'name.too-long': `The name is too long: at most ${NAME_MAX_BYTES} bytes.`,
  'name.dots': 'A name cannot be just dots.',
  'name.separator': 'A name cannot contain / or \\.',
  'name.control-character': 'The name contains an invisible control character.',
  'name.forbidden-character': 'A name cannot contain < > : " | ? or *, because Windows cannot keep it.',
  'name.reserved': 'Windows reserves this name for a device. Add a word to it.',
  'name.trailing-dot-or-space': 'A name cannot end with a dot or a space, because Windows cannot keep it.',
  'name.leading-space': 'A name cannot begin with a space.',
  'name.not-unicode': 'The name is not valid Unicode text.',
};

/**
 * How deep something lies below its store: folders on the way and itself, and the bytes of its path with the slashes.
 */
export interface PathExtent {
  levels: number;
  bytes: number;
}

/**
 * The longest path below a store: within the 1,024 bytes of macOS (sys/syslimits.h, PATH_MAX), which are the fewest.
 */
export const PATH_MOST_BYTES = 1000;
/** The most levels below a store (common practice, no source). */
export const PATH_MOST_LEVELS = 100;

export type PathFault = 'path.too-deep' | 'path.too-long';

/** Why something cannot be put that deep; null when it can. What lies deeper already is left where it is. */
export function pathFault(extent: PathExtent): PathFault | null {
  if (extent.levels > PATH_MOST_LEVELS) return 'path.too-deep';
  return extent.bytes > PATH_MOST_BYTES ? 'path.too-long' : null;
}

export const PATH_FAULT_WORDS: Record<PathFault, string> = {
  'path.too-deep': `Folders go at most ${PATH_MOST_LEVELS} levels deep. Choose a folder further up.`,
  'path.too-long': `With all folders on the way the path would be longer than ${PATH_MOST_BYTES.toLocaleString('en-GB')} bytes, which some desktops cannot open. Choose shorter names or a folder further up.`,
};

/** A name for each, so that no two are the same for any desktop: a later twin gets a number. In the order given. */
export function distinctNames(names: readonly string[]): string[] {
  const taken = new Set<string>();
  return names.map((name) => {
    const free = taken.has(nameKey(name)) ? keepBothName(name, (key) => taken.has(key)) : name;
    taken.add(nameKey(free));
    return free;
  });
}

/**
 * What names are compared by within a folder: composed form and case folded, so that every desktop can hold the folder.
 */
export function nameKey(name: string): string {
  // Small letters first: the capital sharp s (U+1E9E) is its own capital, and its small letter's capital is SS.
  return name.normalize('NFC').toLowerCase().toUpperCase().toLowerCase().normalize('NFC');
}

/** "name (2).ext": the first free name when both are kept. `taken` answers for a {@link nameKey}. */
export function keepBothName(name: string, taken: (key: string) => boolean): string {
  const dot = name.lastIndexOf('.');
  const [stem, extension] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ''];
  for (let n = 2; ; n += 1) {
    const tail = ` (${n})${extension}`;
    const candidate = trimToBytes(stem, NAME_MAX_BYTES - utf8Bytes(tail).length) + tail;
    if (!taken(nameKey(candidate))) return candidate;
  }
}

function trimToBytes(text: string, maxBytes: number): string {
  let kept = text;
  while (utf8Bytes(kept).length > maxBytes) kept = [...kept].slice(0, -1).join('');
  return kept;
}

/** Files that desktop systems leave behind: hidden by default, and never published. */
export function isLitter(name: string): boolean {
  return /^(\.ds_store|thumbs\.db|desktop\.ini|\._.*|~\$.*|\.spotlight-v100|\.trashes|\.fseventsd|__macosx)$/i.test(
    name,
  );
}

/**
 * A name that every desktop can hold, made from one that some cannot: forbidden characters become "_", device names get
 * one in front. For files that come from elsewhere and must not be lost; the same name when nothing is wrong with it.
 */
export function mendName(name: string): string {
  let mended = normalizeName(name.toWellFormed())
    .replace(/[/\\]/g, '_')
    .replace(new RegExp(CONTROL, 'gu'), '_')
    .replace(new RegExp(FORBIDDEN, 'g'), '_')
    .replace(/^\s+/, '')
    .replace(/[.\s]+$/, '');
  if (RESERVED.test(mended)) mended = `_${mended}`;
  if (mended === '') mended = '_';
  const dot = mended.lastIndexOf('.');
  const [stem, extension] =
    dot > 0 && mended.length - dot <= 16 ? [mended.slice(0, dot), mended.slice(dot)] : [mended, ''];
  return (trimToBytes(stem, NAME_MAX_BYTES - utf8Bytes(extension).length) + extension).replace(/[.\s]+$/, '') || '_';
}
