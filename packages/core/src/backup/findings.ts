import { isBackupLate, type BackupSchedule } from './schedule.js';
import { countOf } from '../text/size.js';
import { momentInWords, type Instant } from '../text/when.js';

/** What is known of a place to which backups go. */
export interface BackupPlaceFacts {
  folder: string;
  every: BackupSchedule['every'];
  /** When the newest good copy was begun; null: there is none. */
  goodAt: Instant | null;
  /** Since when there is this place. */
  since: Instant;
  /** Why the newest attempt failed; null: it did not. */
  fault: { code: string; words: string } | null;
  /** Files that the newest copy lacks, because they are damaged or missing here. */
  lacking: number;
  /** What went wrong when bringing back was rehearsed last; null: nothing. */
  rehearsalFault: string | null;
}

export type BackupFindingKind = 'none' | 'late' | 'failed' | 'full' | 'lacking' | 'rehearsal';

export interface BackupFinding {
  kind: BackupFindingKind;
  words: string;
  remedy: string;
}

/** The fault of a place that has no room for another copy. */
export const TARGET_FULL = 'backup.target-full';

/** What is wrong with the backups of an office, the worst first; one without any place has one finding. */
export function backupFindings(places: readonly BackupPlaceFacts[], now: Instant, zone: string): BackupFinding[] {
  if (places.length === 0)
    return [
      {
        kind: 'none',
        words: 'There is no backup yet: what happens to this machine happens to the files.',
        remedy: 'Choose a folder on another disk or a mounted share.',
      },
    ];
  return places.flatMap((place) => findingsOf(place, now, zone));
}

function findingsOf(place: BackupPlaceFacts, now: Instant, zone: string): BackupFinding[] {
  const { folder, fault, goodAt } = place;
  const found: BackupFinding[] = [];
  const last = goodAt === null ? 'There is none there yet' : `The newest is of ${momentInWords(goodAt, now, zone)}`;
  if (fault?.code === TARGET_FULL)
    found.push({
      kind: 'full',
      words: `${folder} has no room for another backup: ${fault.words} ${last}.`,
      remedy: 'Make room there, keep fewer copies, or choose a larger disk.',
    });
  else if (fault)
    found.push({
      kind: 'failed',
      words: `The backup to ${folder} failed: ${fault.words} ${last}.`,
      remedy: 'Put that right, then make one now; by itself it is tried again every hour.',
    });
  else if (isBackupLate(place.every, goodAt ?? place.since, now))
    found.push({
      kind: 'late',
      words: `The backup to ${folder} is late. ${last}.`,
      remedy: 'Make one now. Was the machine off at the time that is set?',
    });
  if (place.rehearsalFault !== null)
    found.push({
      kind: 'rehearsal',
      words: `A backup in ${folder} could not be brought back when that was rehearsed: ${place.rehearsalFault}`,
      remedy: 'Make a new one now, and rehearse again.',
    });
  if (place.lacking > 0)
    found.push({
      kind: 'lacking',
      words: `The newest backup in ${folder} lacks ${countOf(place.lacking, 'file')}, because the server's own bytes are damaged or missing.`,
      remedy: 'See the damaged files in Stores; an earlier backup may have them.',
    });
  return found;
}
