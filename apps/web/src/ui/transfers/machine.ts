import type { ConflictChoice } from '@quay/contract';
import type { Planned } from './plan';

/**
 * What a file on its way in can be:
 * checking → waiting → sending → done, with `asking` (its name is taken: a decision is wanted), `again` (it broke off
 * and goes on by itself), `paused`, `failed`, and `needs-file` after a reload.
 */
export type TransferState =
  'checking' | 'waiting' | 'sending' | 'asking' | 'again' | 'paused' | 'done' | 'failed' | 'needs-file';

/** Why something was refused or broke off, as the server or the browser said. */
export interface Fault {
  code: string;
  words: string;
}

/** A file on its way in. */
export interface Transfer extends Planned {
  key: string;
  name: string;
  /** Folders below `folderId` that the file goes into, made when they are not there. */
  below: string[];
  /** Null after a reload, until the file is there again. */
  file: File | null;
  handle: FileSystemFileHandle | null;
  lastModified: number;
  conflict: ConflictChoice;
  /** Where the upload goes on; null before it has begun. */
  url: string | null;
  sentBytes: number;
  state: TransferState;
  fault: Fault | null;
  tries: number;
}

export type TransferEvent =
  | { type: 'checked'; taken: boolean; fault: Fault | null }
  | { type: 'goes-out' }
  | { type: 'begun'; url: string }
  | { type: 'progress'; sentBytes: number }
  | { type: 'done' }
  /** Something that may be tried again by itself. */
  | { type: 'broke-off'; fault: Fault }
  | { type: 'refused'; fault: Fault }
  /** What had arrived is not there any more. */
  | { type: 'vanished' }
  | { type: 'goes-on' }
  | { type: 'pause' }
  | { type: 'resume' }
  | { type: 'decided'; choice: ConflictChoice }
  | { type: 'file-there'; file: File; handle: FileSystemFileHandle | null };

const failed = (t: Transfer, fault: Fault): Transfer => ({ ...t, state: 'failed', fault });

/** Whether all its bytes have arrived, and only the word is missing. */
export const isWhole = (t: Transfer): boolean => t.url !== null && t.sentBytes === t.sizeBytes;

/** How it stands after something has happened to it. What cannot happen in its state changes nothing. */
export function next(t: Transfer, event: TransferEvent): Transfer {
  switch (event.type) {
    case 'checked':
      if (t.state !== 'checking') return t;
      if (event.fault) return failed(t, event.fault);
      return { ...t, state: event.taken ? 'asking' : 'waiting' };
    case 'goes-out':
      return t.state === 'waiting' ? { ...t, state: 'sending', fault: null } : t;
    case 'begun':
      return { ...t, url: event.url, begun: true };
    case 'progress':
      return t.state === 'sending' ? { ...t, sentBytes: Math.min(t.sizeBytes, event.sentBytes) } : t;
    case 'done':
      // Also when it was paused meanwhile: it has arrived.
      return { ...t, state: 'done', sentBytes: t.sizeBytes, fault: null };
    case 'broke-off':
      return t.state === 'sending'
        ? { ...keepingArrived(t), state: 'again', fault: event.fault, tries: t.tries + 1 }
        : t;
    case 'refused':
      if (t.state !== 'sending') return t;
      return event.fault.code === 'name.taken' && t.conflict === 'refuse'
        ? { ...t, state: 'asking' }
        : failed(t, event.fault);
    case 'vanished':
      return t.state === 'sending' ? { ...t, state: 'waiting', url: null, begun: false, sentBytes: 0 } : t;
    case 'goes-on':
      return t.state === 'again' ? { ...t, state: 'waiting', fault: null } : t;
    case 'pause':
      return ['waiting', 'sending', 'again'].includes(t.state)
        ? { ...keepingArrived(t), state: 'paused', fault: null }
        : t;
    case 'resume':
      return ['paused', 'again', 'failed'].includes(t.state) && t.file ? { ...t, state: 'waiting', fault: null } : t;
    case 'decided':
      if (t.state !== 'asking') return t;
      return { ...t, conflict: event.choice, state: isWhole(t) ? 'sending' : 'waiting' };
    case 'file-there':
      if (t.state !== 'needs-file') return t;
      return { ...t, state: 'waiting', file: event.file, handle: event.handle ?? t.handle };
  }
}

/** Of a batch that breaks off nothing has arrived; of a resumable upload what the server has stays there. */
const keepingArrived = (t: Transfer): Transfer => (t.begun ? t : { ...t, sentBytes: 0 });

/** A file as it stands before anything is known of it. */
export function newTransfer(
  known: Pick<Transfer, 'id' | 'key' | 'name' | 'folderId' | 'below' | 'sizeBytes' | 'lastModified'> &
    Partial<Transfer>,
): Transfer {
  return {
    file: null,
    handle: null,
    conflict: 'refuse',
    url: null,
    begun: false,
    sentBytes: 0,
    state: 'checking',
    fault: null,
    tries: 0,
    ...known,
  };
}

/** Whether it is under way, or would be as soon as somebody lets it. */
export function isActive(t: Transfer): boolean {
  return ['checking', 'sending', 'waiting', 'again'].includes(t.state) || (t.state === 'paused' && t.file !== null);
}

/**
 * The file chosen again that a transfer has lost, if it is among these: the same name, size and time, as far as known.
 */
export function matching<T extends { file: File }>(t: Transfer, files: readonly T[]): T | undefined {
  return files.find(
    ({ file }) =>
      file.name === t.name &&
      file.size === t.sizeBytes &&
      (t.lastModified === 0 || file.lastModified === t.lastModified),
  );
}
