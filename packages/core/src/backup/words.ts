import { countOf } from '../text/size.js';
import type { BackupsKept } from './kept.js';
import type { BackupSchedule } from './schedule.js';

export const WEEKDAYS = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'] as const;

/** "22:30" */
export const minuteInWords = (minute: number): string =>
  `${String(Math.floor(minute / 60)).padStart(2, '0')}:${String(minute % 60).padStart(2, '0')}`;

/** "every day at 22:30" */
export function scheduleWords({ every, atMinute, weekday }: BackupSchedule): string {
  if (every === 'hour') return atMinute % 60 === 0 ? 'every hour' : `every hour, ${atMinute % 60} minutes past`;
  const at = `at ${minuteInWords(atMinute)}`;
  return every === 'day' ? `every day ${at}` : `every ${WEEKDAYS[weekday - 1]} ${at}`;
}

/** "one each of the newest 7 days, 5 weeks and 12 months" */
export function keptWords(kept: BackupsKept): string {
  const periods = (['days', 'weeks', 'months'] as const)
    .filter((name) => kept[name] > 0)
    .map((name) => countOf(kept[name], name.slice(0, -1)));
  if (periods.length === 0) return 'only the newest';
  const last = periods.pop();
  return `one each of the newest ${periods.length > 0 ? `${periods.join(', ')} and ` : ''}${last}`;
}

export interface BackupPlan extends BackupSchedule, BackupsKept {
  folder: string;
  /** Whom copies are encrypted to, as age recipients; none: they are not. */
  recipients: readonly string[];
}

/** What a change of a place does, sentence by sentence; none where nothing that is worth a word changes. */
export function backupChangeWords(before: BackupPlan, after: BackupPlan): string[] {
  const words: string[] = [];
  if (before.folder !== after.folder)
    words.push(`Backups go to ${after.folder} from now on; those in ${before.folder} stay there.`);
  const isOther = [...before.recipients].sort().join() !== [...after.recipients].sort().join();
  if (isOther && after.recipients.length === 0)
    words.push('Backups are not encrypted any more: whoever holds the disk reads everything.');
  if (isOther && after.recipients.length > 0)
    words.push(
      'The next backup copies every file anew, encrypted for those who are named. Earlier ones stay as they are.',
    );
  for (const name of ['days', 'weeks', 'months'] as const)
    if (after[name] < before[name]) {
      words.push(`From the next backup on, kept is ${keptWords(after)}; what is older is removed.`);
      break;
    }
  if (scheduleWords(before) !== scheduleWords(after)) words.push(`A backup is made ${scheduleWords(after)}.`);
  return words;
}

/** Whether one folder is another, or lies in it; both absolute and without detours. */
export const liesIn = (folder: string, other: string): boolean =>
  folder === other || folder.startsWith(other.endsWith('/') ? other : `${other}/`);
