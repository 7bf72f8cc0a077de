import type { BackupFinding, BackupSchedule, BackupsKept, RehearsalEvery } from '@quay/core';
import Joi from 'joi';
import { serverFolderSchema } from './setup.js';
import type { Task } from './transfers.js';

/** Where backups go, when, and which of them are kept. */
export interface BackupPlan extends BackupSchedule, BackupsKept {
  folder: string;
  /** Whom they are encrypted to (age recipients); none: they are not. */
  recipients: string[];
  /** How often bringing one back is rehearsed. */
  rehearse: RehearsalEvery;
}

const number = (min: number, max: number) => Joi.number().integer().min(min).max(max).required();
export const RECIPIENTS_MOST = 10;

export const backupPlanSchema = Joi.object<BackupPlan>({
  folder: serverFolderSchema.required(),
  every: Joi.string().valid('hour', 'day', 'week').required(),
  atMinute: number(0, 1439),
  weekday: number(1, 7),
  days: number(0, 366),
  weeks: number(0, 260),
  months: number(0, 120),
  recipients: Joi.array()
    .items(
      Joi.string()
        .trim()
        .max(2000)
        .pattern(/^age1[02-9ac-hj-np-z]+$/)
        .messages({ 'string.pattern.base': 'A key to encrypt to begins with age1, as age-keygen prints it.' }),
    )
    .unique()
    .max(RECIPIENTS_MOST)
    .required(),
  rehearse: Joi.string().valid('never', 'week', 'month').required(),
});

export interface BackupFolder {
  folder: string;
}
export const backupFolderSchema = Joi.object<BackupFolder>({ folder: serverFolderSchema.required() });

/** What a folder is like that backups could go to. */
export interface BackupFolderFacts {
  folder: string;
  freeBytes: number | null;
  /** What the next backup would take at most. */
  neededBytes: number;
  mark: 'ok' | 'warn' | 'fail';
  words: string;
}

/** One backup that lies in a folder. */
export interface BackupCopy {
  stamp: string;
  at: string;
  files: number;
  bytes: number;
  encrypted: boolean;
}

export interface BackupPlace extends BackupPlan {
  id: string;
  /** The newest attempt, and why it failed. */
  triedAt: string | null;
  fault: string | null;
  /** The newest that worked. */
  goodAt: string | null;
  files: number;
  bytes: number;
  nextAt: string;
  rehearsedAt: string | null;
  /** How the newest rehearsal ended. */
  rehearsalWords: string | null;
  rehearsalWorked: boolean;
  /** What is being done there now, or waits for its turn. */
  task: Task | null;
}

/** What lies in the folder of a place, as found there now; newest first. */
export interface BackupCopies {
  copies: BackupCopy[];
  freeBytes: number | null;
  /** Why the folder cannot be read; null: it can. */
  fault: string | null;
}

export interface Backups {
  places: BackupPlace[];
  findings: BackupFinding[];
}
