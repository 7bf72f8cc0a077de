import { countOf, formatSize } from '../text/size.js';
import { momentInWords, type Instant } from '../text/when.js';
import { minutesAhead } from '../text/zone.js';
import type { BackupFinding } from '../backup/findings.js';

/** One thing that was looked at. */
export interface HealthLine {
  /** Stable, for machines: "disk.files". */
  id: string;
  mark: 'ok' | 'warn' | 'fail' | 'unknown';
  /** How it is. */
  words: string;
  /** What to do about it; null: nothing. */
  remedy: string | null;
}

/** A file system that something of the office lies on. */
export interface DiskFacts {
  /** What lies there: "The files". */
  what: string;
  folder: string;
  freeBytes: number;
  sizeBytes: number;
  /** Files that can still be made there, of how many; null: it has no such limit. */
  freeInodes: number | null;
  inodes: number | null;
}

/** A file that only the program may read. */
export interface SecretFileFacts {
  path: string;
  /** The permission bits; null: it is not there. */
  mode: number | null;
  /** Whether it is the program's own. */
  own: boolean;
}

export interface DatabaseFacts {
  /** As `server_version_num` says: 150008 is 15.8. */
  version: number;
  sizeBytes: number;
  settings: Record<string, string>;
  connections: number;
  /** Tables with many rows that are dead, each with its share. */
  bloated: { table: string; share: number }[];
  /** Transactions since the oldest row was frozen. */
  oldestTransactions: number;
  /** Whether names would sort otherwise than when the indexes were built. */
  collationChanged: boolean;
  /** Minutes by which the database and this program differ about the office's zone. */
  zoneMinutes: number;
}

/** What was found; null where it could not be. */
export interface HealthFacts {
  now: Instant;
  zone: string;
  node: string;
  disks: DiskFacts[];
  /** Seconds that this machine's clock is ahead of somebody else's (RFC 9110 §6.6.1), and whose. */
  clock: { aheadSeconds: number; of: string } | null;
  /** Whether the system keeps its clock right by itself (systemd-timesyncd, chrony); null: not known. */
  clockKept: boolean | null;
  database: DatabaseFacts | null;
  secrets: SecretFileFacts[];
  certificates: { host: string; since: Instant; until: Instant }[];
  backups: BackupFinding[];
  queue: { waitingSince: Instant | null; givenUp: number } | null;
  mail: { way: 'none' | 'answers' | 'silent'; words: string; unsent: number } | null;
  /** How the last look at the office's directory went; null: there is no directory, or nobody has looked yet. */
  directory: { at: Instant; state: 'asks' | 'failed' | 'well'; words: string } | null;
  /** What should answer on this machine, and whether it does. */
  ports: { what: string; port: number; answers: boolean }[];
  files: { open: number; most: number } | null;
  memory: { availableBytes: number; totalBytes: number } | null;
  /** Programs of the system that are called, and are missing. */
  missingPrograms: string[];
}

const DAY = 86_400_000;
const MINUTE = 60_000;

/** Until when versions get security fixes: nodejs.org/en/about/previous-releases, from memory. */
const NODE_UNTIL: Record<number, string> = { 20: '2026-04-30', 22: '2027-04-30', 24: '2028-04-30' };
/** postgresql.org/support/versioning, from memory. */
const POSTGRES_UNTIL: Record<number, string> = {
  ...{ 13: '2025-11-13', 14: '2026-11-12', 15: '2027-11-11', 16: '2028-11-09', 17: '2029-11-08', 18: '2030-11-14' },
};

/** Shares of a disk that are left (common practice, no source). */
const DISK = { warn: 0.1, fail: 0.03 };
/** Bytes below which a disk is nearly full however small it is. */
const DISK_LEAST = { warn: 5e9, fail: 1e9 };
/** A second is noticed by nobody; from half a minute on codes and certificates go wrong (common practice, no source). */
const CLOCK_SECONDS = { warn: 5, fail: 30 };
/**
 * Renewals begin when a third of a certificate's time is left: with less than this share of it, or fewer days, they were
 * tried and failed (common practice, no source).
 */
const CERTIFICATE = { warn: { share: 0.2, days: 14 }, fail: { share: 0.05, days: 3 } };
/** Two thousand million transactions wrap round (PostgreSQL §24.1.5). */
const TRANSACTIONS = { warn: 1e9, fail: 1.8e9 };
const BLOATED_SHARE = 0.4;
const OPEN_FILES_LEAST = 4096;
const WAITS_TOO_LONG = 10 * MINUTE;

const ok = (id: string, words: string): HealthLine => ({ id, mark: 'ok', words, remedy: null });
const line = (id: string, mark: HealthLine['mark'], words: string, remedy: string): HealthLine => ({
  ...{ id, mark, words, remedy },
});

/** Everything that makes a server fail one day, each with what to do about it; in the order in which it is shown. */
export function judgeHealth(facts: HealthFacts): HealthLine[] {
  return [
    ...facts.disks.map(judgeDisk),
    ...judgeBackups(facts.backups),
    ...judgeDatabase(facts),
    ...judgeCertificates(facts),
    judgeClock(facts),
    ...judgeQueue(facts),
    judgeMail(facts.mail),
    ...judgeDirectory(facts),
    ...facts.ports.map(judgePort),
    ...judgeSecrets(facts.secrets),
    judgeFiles(facts.files),
    judgeMemory(facts.memory),
    judgePrograms(facts.missingPrograms),
    judgeNode(facts.node, facts.now),
  ];
}

/** The worst of them. */
export function worstMark(lines: readonly HealthLine[]): 'ok' | 'warn' | 'fail' {
  return lines.some((l) => l.mark === 'fail') ? 'fail' : lines.some((l) => l.mark === 'warn') ? 'warn' : 'ok';
}

function judgeDisk(disk: DiskFacts): HealthLine {
  const { what, folder, freeBytes, sizeBytes, freeInodes, inodes } = disk;
  const id = `disk.${what.toLowerCase().replace(/^the /, '').replaceAll(' ', '-')}`;
  const remedy = 'Make room there, or move it to a larger disk.';
  const left = sizeBytes === 0 ? 1 : freeBytes / sizeBytes;
  const words = `${what} (${folder}): ${formatSize(freeBytes)} of ${formatSize(sizeBytes)} free`;
  if (left < DISK.fail || freeBytes < DISK_LEAST.fail) return line(id, 'fail', `${words}.`, remedy);
  if (freeInodes !== null && inodes !== null && inodes > 0 && freeInodes / inodes < DISK.fail)
    return line(id, 'fail', `${words}, but hardly any files can be made there any more (inodes).`, remedy);
  if (left < DISK.warn || freeBytes < DISK_LEAST.warn) return line(id, 'warn', `${words}.`, remedy);
  if (freeInodes !== null && inodes !== null && inodes > 0 && freeInodes / inodes < DISK.warn)
    return line(id, 'warn', `${words}, but few files can be made there any more (inodes).`, remedy);
  return ok(id, `${words}.`);
}

function judgeBackups(findings: readonly BackupFinding[]): HealthLine[] {
  if (findings.length === 0) return [ok('backup', 'Backups are made, and can be brought back.')];
  const worse = new Set(['failed', 'full', 'rehearsal']);
  return findings.map(({ kind, words, remedy }) =>
    line(`backup.${kind}`, worse.has(kind) ? 'fail' : 'warn', words, remedy),
  );
}

function judgeDatabase({ database, now, zone }: HealthFacts): HealthLine[] {
  if (!database)
    return [
      line('database', 'fail', 'The database does not answer.', 'See whether PostgreSQL runs, and what its log says.'),
    ];
  const found = [...judgeSettings(database), ...judgeGrowth(database), ...judgeAgreement(database, zone)];
  const major = Math.floor(database.version / 10_000);
  const until = POSTGRES_UNTIL[major];
  if (until !== undefined && now > Date.parse(until))
    found.push(
      line(
        'database.version',
        'warn',
        `PostgreSQL ${major} gets no more fixes.`,
        'Move to a newer one: make a backup, install it, bring the backup back.',
      ),
    );
  const named = `PostgreSQL ${major}.${database.version % 10_000}, ${formatSize(database.sizeBytes)}`;
  return found.length > 0 ? found : [ok('database', `The database is well (${named}).`)];
}

/** What a setting risks when it is off. */
const SETTINGS: Record<string, string> = {
  fsync: 'after a power cut the database may be damaged',
  full_page_writes: 'after a power cut the database may be damaged',
  synchronous_commit: 'after a power cut the database may lack what was acknowledged',
  autovacuum: 'tables grow without end',
};

function judgeSettings({ settings, connections }: DatabaseFacts): HealthLine[] {
  const found = Object.entries(SETTINGS)
    .filter(([name]) => settings[name] === 'off')
    .map(([name, risk]) =>
      line(
        `database.${name}`,
        'fail',
        `${name} is off: ${risk}.`,
        `Set ${name} = on in postgresql.conf, and reload it.`,
      ),
    );
  const most = Number(settings['max_connections'] ?? 100);
  if (connections > 0.8 * most)
    found.push(
      line(
        'database.connections',
        'warn',
        `${connections} of ${most} connections to the database are taken.`,
        'Raise max_connections, or run fewer server processes.',
      ),
    );
  return found;
}

function judgeGrowth({ oldestTransactions, bloated }: DatabaseFacts): HealthLine[] {
  const found = bloated
    .filter(({ share }) => share > BLOATED_SHARE)
    .map(({ table, share }) =>
      line(
        'database.bloat',
        'warn',
        `${Math.round(share * 100)} % of the rows of ${table} are dead.`,
        `VACUUM ${table};`,
      ),
    );
  if (oldestTransactions > TRANSACTIONS.warn)
    found.push(
      line(
        'database.transactions',
        oldestTransactions > TRANSACTIONS.fail ? 'fail' : 'warn',
        'The database has not tidied up for very long; it stops taking changes when its numbers run out.',
        'Run VACUUM on it, and see why autovacuum does not (a transaction that stays open?).',
      ),
    );
  return found;
}

/** What the system and the database must see alike. */
function judgeAgreement({ collationChanged, zoneMinutes }: DatabaseFacts, zone: string): HealthLine[] {
  const found: HealthLine[] = [];
  if (collationChanged)
    found.push(
      line(
        'database.collation',
        'fail',
        'The system sorts text otherwise than when the database was made: names may not be found.',
        'Run REINDEX DATABASE, then ALTER DATABASE … REFRESH COLLATION VERSION.',
      ),
    );
  if (zoneMinutes !== 0)
    found.push(
      line(
        'clock.zone',
        'fail',
        `The database and this program differ by ${Math.abs(zoneMinutes)} minutes about what clocks show in ${zone}.`,
        'Update the packages tzdata and nodejs: one of them knows old rules.',
      ),
    );
  return found;
}

function judgeCertificates({ certificates, now }: HealthFacts): HealthLine[] {
  return certificates.map(({ host, since, until }) => {
    const days = Math.floor((until - now) / DAY);
    const isShort = ({ share, days: least }: { share: number; days: number }) =>
      until - now < Math.min(least * DAY, share * (until - since));
    const id = `certificate.${host}`;
    const remedy = 'See its way in under Reach: the renewal says what stands in its way.';
    if (days < 0) return line(id, 'fail', `The certificate of ${host} is over.`, remedy);
    const words = `The certificate of ${host} holds for ${countOf(days, 'day')}.`;
    if (isShort(CERTIFICATE.fail)) return line(id, 'fail', words, remedy);
    return isShort(CERTIFICATE.warn) ? line(id, 'warn', words, remedy) : ok(id, words);
  });
}

function judgeClock({ clock, clockKept, now, zone }: HealthFacts): HealthLine {
  const remedy = 'Let the system keep its clock: apt-get install systemd-timesyncd (or chrony).';
  const shows = `it is ${momentInWords(now, now, zone)} in ${zone} (UTC ${offset(zone, now)})`;
  if (clock === null)
    return clockKept === false
      ? line('clock', 'warn', `By this machine ${shows}; nothing keeps its clock right.`, remedy)
      : { id: 'clock', mark: clockKept ? 'ok' : 'unknown', words: `By this machine ${shows}.`, remedy: null };
  const seconds = Math.abs(Math.round(clock.aheadSeconds));
  const words =
    seconds <= 1
      ? `By this machine ${shows}, and ${clock.of} agrees.`
      : `By this machine ${shows}; ${clock.of} says ${spanInWords(seconds)} ${clock.aheadSeconds > 0 ? 'less' : 'more'}.`;
  if (seconds > CLOCK_SECONDS.fail) return line('clock', 'fail', words, remedy);
  return seconds > CLOCK_SECONDS.warn ? line('clock', 'warn', words, remedy) : ok('clock', words);
}

function spanInWords(seconds: number): string {
  if (seconds < 120) return countOf(seconds, 'second');
  if (seconds < 7200) return countOf(Math.round(seconds / 60), 'minute');
  return seconds < 2 * 86_400
    ? countOf(Math.round(seconds / 3600), 'hour')
    : countOf(Math.round(seconds / 86_400), 'day');
}

function offset(zone: string, at: Instant): string {
  const minutes = minutesAhead(zone, at);
  const two = (n: number) => String(n).padStart(2, '0');
  return `${minutes < 0 ? '-' : '+'}${two(Math.floor(Math.abs(minutes) / 60))}:${two(Math.abs(minutes) % 60)}`;
}

function judgeQueue({ queue, now }: HealthFacts): HealthLine[] {
  if (!queue) return [];
  const found: HealthLine[] = [];
  if (queue.waitingSince !== null && now - queue.waitingSince > WAITS_TOO_LONG)
    found.push(
      line(
        'queue.waits',
        'warn',
        `Something has been due for ${spanInWords(Math.round((now - queue.waitingSince) / 1000))} and nobody has taken it up.`,
        'Is the server running? Look at what it does by itself.',
      ),
    );
  if (queue.givenUp > 0)
    found.push(
      line(
        'queue.given-up',
        'warn',
        `${countOf(queue.givenUp, 'thing was', 'things were')} given up.`,
        'Look at what it does by itself, and try again.',
      ),
    );
  return found.length > 0 ? found : [ok('queue', 'Nothing is left waiting.')];
}

/** It is looked at every quarter of an hour. */
const DIRECTORY_LATE_MS = 2 * 3600_000;

function judgeDirectory({ directory, now }: HealthFacts): HealthLine[] {
  if (!directory) return [];
  const { at, state, words } = directory;
  if (state === 'failed')
    return [
      line('directory', 'fail', `The directory could not be read: ${words}`, 'See People, Directory, Connection.'),
    ];
  if (state === 'asks')
    return [
      line('directory.asks', 'warn', `The directory waits for an answer: ${words}.`, 'Answer it in People, Directory.'),
    ];
  if (now - at > DIRECTORY_LATE_MS)
    return [
      line('directory.late', 'warn', 'The directory was not looked at for hours.', 'Look now, in People, Directory.'),
    ];
  return [ok('directory', 'The directory is read.')];
}

function judgeMail(mail: HealthFacts['mail']): HealthLine {
  if (!mail) return { id: 'mail', mark: 'unknown', words: 'The mail server was not asked.', remedy: null };
  if (mail.way === 'none')
    return line('mail', 'warn', 'No mail goes out.', 'Name a mail server in Settings, so that notices arrive.');
  if (mail.way === 'silent') return line('mail', 'fail', mail.words, 'See Settings, Mail: a test message says more.');
  return mail.unsent > 0
    ? line(
        'mail.unsent',
        'warn',
        `${countOf(mail.unsent, 'message')} of the last week could not be sent.`,
        'Look at what it does by itself: the mail server says why.',
      )
    : ok('mail', mail.words);
}

function judgePort({ what, port, answers }: HealthFacts['ports'][number]): HealthLine {
  return answers
    ? ok(`port.${port}`, `${what} answers on port ${port}.`)
    : line(`port.${port}`, 'fail', `${what} does not answer on port ${port}.`, 'Start it, and see what it says.');
}

function judgeSecrets(secrets: readonly SecretFileFacts[]): HealthLine[] {
  const faults = secrets.flatMap(({ path, mode, own }): HealthLine[] => {
    if (mode === null) return [line('secrets', 'fail', `${path} is missing.`, 'Bring it back from a backup.')];
    if (!own)
      return [line('secrets', 'warn', `${path} belongs to somebody else.`, `chown it to whom the server runs as.`)];
    return (mode & 0o077) === 0
      ? []
      : [line('secrets', 'fail', `${path} can be read by others on this machine.`, `chmod 600 ${path}`)];
  });
  return faults.length > 0 ? faults : [ok('secrets', 'Only the program reads its keys.')];
}

function judgeFiles(files: HealthFacts['files']): HealthLine {
  if (!files) return { id: 'files', mark: 'unknown', words: 'How many files may be open is not known.', remedy: null };
  const words = `${files.open} files are open, of ${files.most} at most.`;
  if (files.open > 0.8 * files.most)
    return line('files', 'fail', words, 'Raise the limit: LimitNOFILE= of the service.');
  return files.most < OPEN_FILES_LEAST
    ? line(
        'files',
        'warn',
        `At most ${files.most} files may be open.`,
        'Raise the limit: LimitNOFILE=65536 of the service.',
      )
    : ok('files', words);
}

function judgeMemory(memory: HealthFacts['memory']): HealthLine {
  if (!memory) return { id: 'memory', mark: 'unknown', words: 'Its memory is not known.', remedy: null };
  const words = `${formatSize(memory.availableBytes)} of ${formatSize(memory.totalBytes)} of memory are free.`;
  return memory.availableBytes < 200e6
    ? line('memory', 'warn', words, 'End what else runs there, or give the machine more.')
    : ok('memory', words);
}

function judgePrograms(missing: readonly string[]): HealthLine {
  return missing.length === 0
    ? ok('programs', 'The programs that it calls are there.')
    : line(
        'programs',
        'warn',
        `Missing: ${missing.join(', ')}.`,
        `apt-get install ${missing.join(' ')}. Previews, or backups, do not work without.`,
      );
}

function judgeNode(version: string, now: Instant): HealthLine {
  const until = NODE_UNTIL[Number(version.split('.')[0])];
  return until !== undefined && now > Date.parse(until)
    ? line(
        'node',
        'warn',
        `Node.js ${version} gets no more security fixes.`,
        'Install a newer one that is supported for long, then start again.',
      )
    : ok('node', `Node.js ${version}.`);
}
