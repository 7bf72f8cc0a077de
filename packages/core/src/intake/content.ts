import { CONTENT_KIND_WORDS, type ContentKind } from './limits.js';

/** What files are called that hold each kind of content (common practice, no source). */
const EXTENSIONS: Record<ContentKind, string> = {
  picture: 'jpg jpeg png gif webp tif tiff bmp heic heif avif jp2 dng cr2 cr3 nef arw svg',
  pdf: 'pdf',
  text: 'txt csv tsv md json xml log asc xyz pts gpx kml geojson rtf html htm',
  drawing: 'dxf dwg dgn ifc step stp iges igs stl obj ply las laz e57 rvt skp shp',
  office: 'doc docx xls xlsx ppt pptx odt ods odp',
  sound: 'mp3 wav flac ogg oga opus m4a aac',
  film: 'mp4 m4v mov webm mkv avi mpg mpeg',
  archive: 'zip 7z rar tar gz tgz bz2 xz zst',
};
const KIND_OF = new Map(
  Object.entries(EXTENSIONS).flatMap(([kind, all]) =>
    all.split(' ').map((extension) => [extension, kind as ContentKind] as const),
  ),
);

/** Names under which a desktop runs what is in the file (common practice, no source). */
const PROGRAMS = new Set(
  'exe com scr bat cmd ps1 psm1 vbs vbe js jse wsf wsh hta msi msp cpl lnk pif reg jar app apk dmg pkg sh desktop iso img'.split(
    ' ',
  ),
);

/** What content is, as it begins, of programs. */
const PROGRAM_MEDIA = new Set([
  ...['application/x-msdownload', 'application/vnd.microsoft.portable-executable', 'application/x-executable'],
  ...['application/x-elf', 'application/x-mach-binary', 'application/x-sh', 'application/x-ms-shortcut'],
  ...['application/java-vm', 'application/wasm', 'application/x-sharedlib', 'application/x-pie-executable'],
]);

/** Kinds that a look at the first bytes tells for sure: what is not told to be one is none. */
const TOLD_BY_CONTENT: readonly ContentKind[] = ['picture', 'pdf', 'sound', 'film', 'archive'];
/** Named so, they are text, which has no mark of its own. */
const TEXT_ALL_THE_SAME = new Set(['svg']);

const extensionOf = (name: string): string => /\.([^.]+)$/.exec(name.toLowerCase().trimEnd())?.[1] ?? '';

/** What a name says that is in a file; null: nothing that is known. */
export const kindOfName = (name: string): ContentKind | null => KIND_OF.get(extensionOf(name)) ?? null;

/** What content is, by the media type that its first bytes tell (RFC 6838); null: none of these. */
export function kindOfMedia(media: string): ContentKind | null {
  if (media === 'application/pdf') return 'pdf';
  if (/^image\/(vnd\.(dwg|dxf)|x-dwg)/.test(media)) return 'drawing';
  if (media.startsWith('image/')) return 'picture';
  if (media.startsWith('audio/')) return 'sound';
  if (media.startsWith('video/')) return 'film';
  if (/^application\/(msword|x-cfb|x-ole-storage|vnd\.(ms-|openxmlformats|oasis))/.test(media)) return 'office';
  if (/^application\/(zip|gzip|x-(7z|rar|tar|bzip2|xz|gzip|zstd)|vnd\.rar|zstd)/.test(media)) return 'archive';
  if (media.startsWith('text/') || /^application\/(json|xml|rtf)$/.test(media)) return 'text';
  return null;
}

export type ContentVerdict = 'as-named' | 'not-told' | 'other' | 'program' | 'bomb';

/** What a scanner says of a file. */
export type Scan = 'clean' | 'found' | 'too-large';

/** What is known of a file that was handed in; null: it was not looked at. */
export interface LookedAt {
  verdict: ContentVerdict | null;
  scan: Scan | null;
}

/** Whether a file may go in without anybody having looked at it. @param hasScanner whether one is named */
export const isWelcome = ({ verdict, scan }: LookedAt, hasScanner: boolean): boolean =>
  verdict === 'as-named' && (scan === 'clean' || (scan === null && !hasScanner));

/** Whether a file is only accepted when somebody means it by name. */
export const isDoubtful = ({ verdict, scan }: LookedAt): boolean =>
  verdict === 'program' || verdict === 'other' || verdict === 'bomb' || scan === 'found' || scan === 'too-large';

/** Why nobody can accept a file, as a code; null: somebody may. */
export function acceptFault({ scan }: LookedAt, hasScanner: boolean): AcceptFault | null {
  if (scan === 'found') return 'deposit.found';
  return hasScanner && scan === null ? 'deposit.not-scanned' : null;
}
export type AcceptFault = 'deposit.found' | 'deposit.not-scanned';
export const ACCEPT_FAULT_WORDS: Record<AcceptFault, string> = {
  'deposit.found': 'The scanner found something in it. Refuse it.',
  'deposit.not-scanned': 'The scanner has not looked at it yet. It is accepted once it has.',
};

/** What was found further inside a file. */
export interface Within {
  /** What is against unpacking it, after its name ({@link archiveFault}). */
  fault: string | null;
  /** Why nobody can look into it, after its name; null: somebody can. */
  untold: string | null;
  /** It is something else, and an archive as well. */
  isAlsoArchive: boolean;
}
const NOTHING_WITHIN: Within = { fault: null, untold: null, isAlsoArchive: false };

export interface Verdict {
  verdict: ContentVerdict;
  words: string;
}

/**
 * Whether a file is what its name says, and no more.
 * @param media by its first bytes; null: they tell nothing
 */
export function contentVerdict(name: string, media: string | null, within = NOTHING_WITHIN): Verdict {
  const found = byName(name, media);
  if (found.verdict === 'program' || found.verdict === 'other') return found;
  if (within.fault !== null) return { verdict: 'bomb', words: `${name} ${within.fault}` };
  if (within.isAlsoArchive)
    return { verdict: 'other', words: `${name} is two things at once: it is an archive as well` };
  if (within.untold !== null) return { verdict: 'not-told', words: `${name} ${within.untold}` };
  return found;
}

/** Whether something else in a file is worth looking for: what is made of archives has one in it. */
export function isNoArchive(media: string | null): boolean {
  const kind = media === null ? null : kindOfMedia(media);
  return kind === 'picture' || kind === 'pdf' || kind === 'sound' || kind === 'film';
}

function byName(name: string, media: string | null): Verdict {
  const said = kindOfName(name);
  const found = media === null ? null : kindOfMedia(media);
  if (media !== null && PROGRAM_MEDIA.has(media)) return { verdict: 'program', words: `${name} is a program` };
  if (PROGRAMS.has(extensionOf(name))) return { verdict: 'program', words: `${name} would run as a program` };
  if (said === null) return { verdict: 'not-told', words: `what ${name} is cannot be told` };
  // What offices write is an archive inside, and drawings are often text or archives.
  const also: Partial<Record<ContentKind, readonly (ContentKind | null)[]>> = {
    office: ['archive', 'text'],
    drawing: ['archive', 'text', 'picture'],
    text: ['office'],
  };
  if (found === said || (also[said] ?? []).includes(found)) return { verdict: 'as-named', words: 'is what it says' };
  if (found === null && (!TOLD_BY_CONTENT.includes(said) || TEXT_ALL_THE_SAME.has(extensionOf(name))))
    return { verdict: 'as-named', words: 'is what it says' };
  if (found === 'text' && TEXT_ALL_THE_SAME.has(extensionOf(name)))
    return { verdict: 'as-named', words: 'is what it says' };
  const what = found === null ? 'something else' : CONTENT_KIND_WORDS[found];
  return { verdict: 'other', words: `${name} is not what it says: it holds ${what}` };
}
