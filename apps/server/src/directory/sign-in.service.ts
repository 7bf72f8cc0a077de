import { Inject, Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { log } from '../platform/log/log.js';
import { hashPassword, passwordMatches } from '../platform/passwords.js';
import { Problem } from '../platform/problems/problem.js';
import {
  keepVerifier,
  linkedIds,
  loadDirectory,
  namedInDirectory,
  signsIn,
  type SignsIn,
} from './directory.queries.js';
import { DirectoryFault } from './fault.js';
import { DirectoryLine, type DirectoryWay } from './line.js';

const DAY_MS = 86_400_000;

/** Whether somebody of the directory types the right password: the directory says so, here it is not known. */
@Injectable()
export class DirectorySignIn {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Whoever has a name there, also as `OFFICE\\name`; null where nobody does. */
  async named(typed: string): Promise<string | null> {
    return namedInDirectory(this.db.manager, typed);
  }

  async signsIn(personId: string): Promise<boolean> {
    return (await signsIn(this.db.manager, personId)) !== null;
  }

  /** Accounts, or groups, that stand for an entry of the directory. */
  linked(kind: 'person' | 'group'): Promise<Set<string>> {
    return linkedIds(this.db.manager, kind);
  }

  /**
   * @returns null: they are not of the directory, and have a password here
   * @throws Problem directory.away, where no server answers and nobody may sign in meanwhile
   */
  async check(personId: string, password: string): Promise<boolean | null> {
    const how = await signsIn(this.db.manager, personId);
    if (!how) return null;
    const way = await loadDirectory(this.db.manager, this.config.sealingKey);
    if (!way) throw away('The directory that knows your password is not connected any more.');
    if (password === '') return false;
    const right = await this.ask(way, how.entryId, password);
    if (right === 'away') return this.meanwhile(way, how, password);
    await this.keep(way, how, { personId, password, right });
    return right;
  }

  /** Whether some server says so; the first that answers decides. */
  private async ask(way: DirectoryWay, entryId: string, password: string): Promise<boolean | 'away'> {
    for (const server of way.servers) {
      let line: DirectoryLine | null = null;
      try {
        line = await DirectoryLine.open(this.dialler, server, way);
        // By what never changes of them: a name there may be somebody else's by now.
        const person = await line.person(entryId);
        if (!person || person.disabled) return false;
        await line.bind(person.dn, password);
        return true;
      } catch (error) {
        if (!(error instanceof DirectoryFault)) throw error;
        if (line && error.step === 'bind' && !error.isAway) return false;
        log.warn(
          { server: server.host, step: error.step, fault: error.message },
          'a server of the directory was asked who somebody is, in vain',
        );
      } finally {
        await line?.close();
      }
    }
    return 'away';
  }

  private async meanwhile({ awayDays }: DirectoryWay, { verifier, verifiedAt }: SignsIn, password: string) {
    const since = this.clock.now() - awayDays * DAY_MS;
    if (verifier !== null && verifiedAt !== null && verifiedAt.getTime() > since && awayDays > 0)
      return passwordMatches(verifier, password);
    throw away('The directory that knows your password does not answer. Try again in a while, or ask an admin.');
  }

  /** A password that the directory does not accept any more lets nobody in while it is away. */
  private async keep(
    { awayDays }: DirectoryWay,
    { verifier }: SignsIn,
    { personId, password, right }: { personId: string; password: string; right: boolean },
  ): Promise<void> {
    if (right && awayDays > 0) {
      const kept =
        verifier !== null && (await passwordMatches(verifier, password)) ? verifier : await hashPassword(password);
      await keepVerifier(this.db.manager, personId, kept, this.clock.date());
    } else if (verifier !== null && (right || (await passwordMatches(verifier, password))))
      await keepVerifier(this.db.manager, personId, null, this.clock.date());
  }
}

const away = (words: string): Problem => new Problem('unavailable', 'directory.away', words);
