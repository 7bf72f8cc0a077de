import type { VisitorContents } from '@quay/contract';
import { handingOf, MOST_MARKED_ARCHIVE_BYTES, visitorActs, type Handing, type ShareMay } from '@quay/core';
import { Problem } from '../platform/problems/problem.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { MOST_CONTENTS, type ContentRow } from '../stores/branch.queries.js';
import { archiveFault, archiveSize } from '../transfers/download.service.js';
import { copyKey, wholeOf, type Copy } from './copies.queries.js';

/** Copies by what they were made of ({@link copyOf}); null: that cannot be marked. */
export type Copies = ReadonlyMap<string, Copy | null>;

export interface Given {
  /** What is given as it is, or as a copy that is there. */
  given: ContentRow[];
  /** What must be marked first. */
  missing: ContentRow[];
  /** Files that are given marked, and the bytes of what they are made of. */
  marked: number;
  markedBytes: number;
}

/** What a copy of a file goes by: its bytes, and how its kind is marked. */
const copyOf = ({ path, sha256 }: ContentRow): string => copyKey(wholeOf(path), sha256);

/** To whom something is given: what they brought themselves, and what has been taken as often as it may be. */
export interface Toward {
  own: ReadonlySet<string>;
  spent: ReadonlySet<string>;
}

/** How an entry is given. */
export function handed(may: ShareMay, { own, spent }: Toward, f: ContentRow): Handing {
  if (f.kind === 'folder' || own.has(f.id)) return 'plain';
  return spent.has(f.id) ? 'withheld' : handingOf(may, { name: f.path, sizeBytes: f.sizeBytes });
}

export const markedOf = (may: ShareMay, toward: Toward, found: readonly ContentRow[]): ContentRow[] =>
  found.filter((f) => handed(may, toward, f) === 'marked');

/** What is given of entries of a share; nothing of it is only to look at. */
export function givenOf(may: ShareMay, toward: Toward, found: readonly ContentRow[], copies: Copies): Given {
  const marked = markedOf(may, toward, found);
  const given = found.flatMap((f): ContentRow[] => {
    const how = handed(may, toward, f);
    if (how !== 'marked') return how === 'plain' ? [f] : [];
    const copy = copies.get(copyOf(f));
    return copy ? [{ ...f, sha256: copy.sha256.toString('hex'), sizeBytes: copy.sizeBytes, crc32: copy.crc32 }] : [];
  });
  return {
    // Folders alone are nothing to take.
    given: given.some((f) => f.kind === 'file') ? given : [],
    missing: marked.filter((f) => !copies.has(copyOf(f))),
    marked: marked.length,
    markedBytes: marked.reduce((sum, f) => sum + f.sizeBytes, 0),
  };
}

type Listing = Pick<VisitorContents, 'files' | 'totalBytes' | 'archiveBytes' | 'notAll' | 'copies'>;

/** What a page lists. */
export function listingOf(
  { may, frozenIds }: ShareRecord,
  toward: Toward,
  found: ContentRow[],
  copies: Copies,
): Listing {
  const { own, spent } = toward;
  const acts = visitorActs(may);
  const { given, missing, marked, markedBytes } = givenOf(may, toward, found, copies);
  const fault = archiveFault(found) ?? (markedBytes > MOST_MARKED_ARCHIVE_BYTES ? tooMuchToMark() : null);
  const files = found
    .slice(0, MOST_CONTENTS)
    .filter((f) => f.kind === 'file')
    .map((f) => {
      const isSpent = spent.has(f.id) && !own.has(f.id);
      const handing: Handing = copies.get(copyOf(f)) === null ? 'withheld' : handed(may, toward, f);
      return {
        ...{
          id: f.id,
          path: f.path,
          sizeBytes: f.sizeBytes,
          mediaType: f.mediaType,
          handing,
          isSpent,
          own: own.has(f.id),
        },
        mayReplace: !frozenIds.includes(f.origin) && (own.has(f.id) ? acts.own : acts.all).includes('change'),
        // Of what somebody may not have they are told no checksum, but where they say by it what they replace.
        sha256: handing === 'plain' || may.level === 'edit' ? f.sha256 : '',
      };
    });
  const isReady = !fault && missing.length === 0 && given.length > 0;
  return {
    files,
    totalBytes: files.reduce((sum, f) => sum + f.sizeBytes, 0),
    archiveBytes: isReady ? archiveSize(given) : null,
    notAll: fault && { code: fault.code, words: fault.message, more: found.length > MOST_CONTENTS },
    copies: marked > 0 ? { made: marked - missing.length, of: marked } : null,
  };
}

export const fileSpent = (): Problem =>
  new Problem('gone', 'share.spent', 'This file has been taken as often as it may be. Ask the sender for it.');

export const tooMuchToMark = (): Problem =>
  new Problem(
    'too-large',
    'copies.too-much',
    'There is too much in it to be marked for one download. Take the files one by one.',
  );

/** Why a file is not given. */
export const withheld = ({ level }: ShareMay): Problem =>
  level === 'view'
    ? new Problem('forbidden', 'share.look-only', 'This share is to look at: its files cannot be taken.')
    : cannotBeMarked();

export const cannotBeMarked = (): Problem =>
  new Problem(
    'forbidden',
    'share.cannot-be-marked',
    'This share hands out marked copies, and this file cannot be marked. Ask the sender for it.',
  );
