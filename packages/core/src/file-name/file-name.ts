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

/** The longest name: 255 bytes of UTF-8, the limit of the common Linux file systems (and within those of the others). */
export const NAME_MAX_BYTES = 255;

// Microsoft, "Naming Files, Paths, and Namespaces": device names, alone or before an extension; the superscript digits too.
const RESERVED = /^(con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])(\..*)?$/i;
// The same source: < > : " | ? * and both slashes.
const FORBIDDEN = /[<>:"|?*]/;
// Control characters (C0, DEL, C1), and the marks that reverse or hide the direction of text (Unicode TR 36 §2.10).
// eslint-disable-next-line no-control-regex
const CONTROL = /[\u0000-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]/;

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
  if (/[. ]$/.test(name)) return 'name.trailing-dot-or-space';
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

/** What names are compared by within a folder: composed form and case folded, so that every desktop can hold the folder. */
export function nameKey(name: string): string {
  return name.normalize('NFC').toUpperCase().toLowerCase().normalize('NFC');
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
    .replace(new RegExp(CONTROL, 'g'), '_')
    .replace(new RegExp(FORBIDDEN, 'g'), '_')
    .replace(/^\s+/, '')
    .replace(/[. ]+$/, '');
  if (RESERVED.test(mended)) mended = `_${mended}`;
  if (mended === '') mended = '_';
  const dot = mended.lastIndexOf('.');
  const [stem, extension] =
    dot > 0 && mended.length - dot <= 16 ? [mended.slice(0, dot), mended.slice(dot)] : [mended, ''];
  return (trimToBytes(stem, NAME_MAX_BYTES - utf8Bytes(extension).length) + extension).replace(/[. ]+$/, '') || '_';
}
