import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { isName, isOffice } from './invitation.js';

/** What an office may use of the relay. */
export interface Limits {
  /** Visitors at the same time. */
  visitors: number;
  /** New visitors in a second, over a while. */
  perSecond: number;
  /** Bytes in a month, both ways together; null: as many as there are. */
  monthBytes: number | null;
}

export interface OfficeRow {
  id: string;
  /** Base64url, 32 bytes. */
  secret: string;
  /** The names that lead to it, in small letters; nobody else has one of them. */
  names: string[];
  /** Whether it may bring further names with it, which are its own from then on. */
  brings: boolean;
  limits: Partial<Limits>;
}

interface Kept {
  offices: OfficeRow[];
}

/** Names of one office: more is a mistake. */
const NAMES_MOST = 20;
const LOOK_MS = 1000;

/** Who the offices of a relay are, in one file, which other processes may change too. */
export class Register {
  private kept: Kept = { offices: [] };
  private readAt = 0;
  private changedMs = -1;

  /**
   * @param folder null: nothing is kept on disk
   * @param domain names below it are given out by whoever runs the relay, and brought by nobody
   */
  constructor(
    private readonly folder: string | null,
    private readonly domain: string | null = null,
  ) {
    if (folder) mkdirSync(folder, { recursive: true, mode: 0o700 });
    this.look(true);
  }

  get offices(): readonly OfficeRow[] {
    this.look();
    return this.kept.offices;
  }

  office(id: string): OfficeRow | undefined {
    const known = this.offices.find((o) => o.id === id);
    if (known) return known;
    // It may have been invited this moment.
    this.look(true);
    return this.kept.offices.find((o) => o.id === id);
  }

  /** Whose a name is. */
  ownerOf(name: string): OfficeRow | undefined {
    return this.offices.find((o) => o.names.includes(name));
  }

  /** Makes room for an office. @throws Error when its name on the line, or a name of it, is another's */
  add(row: Omit<OfficeRow, 'secret'>, secret: Buffer = randomBytes(32)): OfficeRow {
    if (!isOffice(row.id)) throw new Error('an office is called by small letters, digits and hyphens, 40 at most');
    const wrong = row.names.find((name) => !isName(name));
    if (wrong !== undefined) throw new Error(`${wrong} is no host name`);
    this.look(true);
    if (this.office(row.id)) throw new Error(`there is an office ${row.id} already`);
    const taken = row.names.find((name) => this.ownerOf(name));
    if (taken !== undefined) throw new Error(`${taken} is the name of ${this.ownerOf(taken)?.id}`);
    const added = { ...row, secret: secret.toString('base64url') };
    this.keep({ offices: [...this.kept.offices, added] });
    return added;
  }

  /** @returns false: there is none */
  remove(id: string): boolean {
    this.look(true);
    if (!this.office(id)) return false;
    this.keep({ offices: this.kept.offices.filter((o) => o.id !== id) });
    return true;
  }

  /**
   * Binds names that an office brings to it. @returns those that it may not have: another's, no host names, or too many
   */
  bring(id: string, names: readonly string[]): string[] {
    this.look();
    const office = this.office(id);
    if (!office) return [...names];
    const refused: string[] = [];
    const mine = new Set(office.names);
    for (const name of names) {
      if (mine.has(name)) continue;
      const free = office.brings && isName(name) && !this.isOwn(name) && !this.ownerOf(name) && mine.size < NAMES_MOST;
      if (free) mine.add(name);
      else refused.push(name);
    }
    if (mine.size > office.names.length)
      this.keep({ offices: this.kept.offices.map((o) => (o.id === id ? { ...o, names: [...mine] } : o)) });
    return refused;
  }

  private isOwn(name: string): boolean {
    return this.domain !== null && (name === this.domain || name.endsWith(`.${this.domain}`));
  }

  private get file(): string | null {
    return this.folder && join(this.folder, 'offices.json');
  }

  private keep(kept: Kept): void {
    this.kept = kept;
    const { file } = this;
    if (!file) return;
    writeFileSync(`${file}.new`, `${JSON.stringify(kept, null, 2)}\n`, { mode: 0o600 });
    renameSync(`${file}.new`, file);
    this.changedMs = statSync(file).mtimeMs;
  }

  /** Another process may have changed it: looked at once a second. */
  private look(now = false): void {
    const { file } = this;
    if (!file || (!now && Date.now() - this.readAt < LOOK_MS)) return;
    this.readAt = Date.now();
    if (!existsSync(file)) return;
    const { mtimeMs } = statSync(file);
    if (mtimeMs === this.changedMs) return;
    const isFirst = this.changedMs < 0;
    this.changedMs = mtimeMs;
    try {
      this.kept = { offices: (JSON.parse(readFileSync(file, 'utf8')) as Kept).offices };
    } catch (error) {
      // Somebody is writing it by hand: what was known holds until it can be read again.
      if (isFirst) throw new Error(`${file} cannot be read: ${(error as Error).message}`, { cause: error });
      console.error(`relay: ${file} cannot be read, and is left out until it changes: ${(error as Error).message}`);
    }
  }
}
