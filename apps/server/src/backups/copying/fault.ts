import { TARGET_FULL } from '@quay/core';

/** Why a backup was not made, or not brought back, with what to do about it. */
export class BackupFault extends Error {
  constructor(
    readonly code: string,
    words: string,
  ) {
    super(words);
  }
}

const WORDS: Record<string, string> = {
  EACCES: 'the program may not write there.',
  EPERM: 'the program may not write there.',
  EROFS: 'it can only be read.',
  ENOTDIR: 'a part of the path is a file.',
  EIO: 'the disk has an error.',
  ESTALE: 'the machine that it is on has forgotten it: mount it anew.',
  EHOSTDOWN: 'the machine that it is on does not answer.',
  ETIMEDOUT: 'the machine that it is on does not answer.',
};

/** What went wrong with the folder of backups, in words. */
export function faultOf(error: unknown): BackupFault {
  if (error instanceof BackupFault) return error;
  const { code = '', message } = error as NodeJS.ErrnoException;
  if (code === 'ENOSPC' || code === 'EDQUOT') return new BackupFault(TARGET_FULL, 'the disk is full.');
  const words = WORDS[code];
  return words ? new BackupFault('backup.target-refuses', words) : new BackupFault('backup.broke-off', `${message}.`);
}
