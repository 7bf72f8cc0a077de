import { Inject, Injectable } from '@nestjs/common';
import {
  dnKey,
  groupOf,
  lastName,
  passwordStays,
  personOf,
  searchFilter,
  type DirectoryEntry,
  type DirectorySchema,
  type HealthFacts,
} from '@quay/core';
import {
  FOUND_SHOWN,
  type Directory,
  type DirectoryFind,
  type DirectoryFindAnswer,
  type DirectoryFound,
  type DirectorySettings,
  type DirectoryTrial,
  type KeepDirectory,
} from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireAdmin } from '../people/duties.js';
import { accountRecords } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import {
  countEntries,
  entryIds,
  forgetDirectory,
  forgetVerifiers,
  keepDirectory,
  loadDirectory,
  runs,
  unlink,
} from './directory.queries.js';
import { DirectoryFault } from './fault.js';
import { DirectoryLine, type DirectoryWay } from './line.js';
import { shownRun } from './shown.js';
import { tryDirectory } from './trial.js';

/** Trials and searches a minute, of one person: each opens lines to other machines. */
const TRIALS = 30;
const RUNS_SHOWN = 20;
/** What holds others in most directories, beside people and groups. */
const BRANCHES =
  '(|(objectClass=organizationalUnit)(objectClass=organization)(objectClass=container)(objectClass=domain)(objectClass=builtinDomain)(objectClass=locality))';

/** How the office's directory is asked, and what is found in it. */
@Injectable()
export class DirectoryService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly attempts: Attempts,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async state(): Promise<Directory> {
    const m = this.db.manager;
    const [way, counts, last] = await Promise.all([this.way(m), countEntries(m), runs(m, RUNS_SHOWN)]);
    return { settings: way && settingsOf(way), hasPassword: way !== null, ...counts, runs: last.map(shownRun) };
  }

  /** How the last look went, for whoever sees after the server; null: there was none. */
  async lastLook(): Promise<HealthFacts['directory']> {
    if (!(await this.isConnected())) return null;
    const last = (await runs(this.db.manager, RUNS_SHOWN)).find((r) => ['waiting', 'done', 'failed'].includes(r.state));
    if (!last) return null;
    const state = last.state === 'failed' ? 'failed' : last.state === 'waiting' && last.asks ? 'asks' : 'well';
    return { at: last.at.getTime(), state, words: last.words };
  }

  async isConnected(): Promise<boolean> {
    return (await this.way(this.db.manager)) !== null;
  }

  /** Goes through to it, step by step, before anything is kept. */
  async try(who: Who, asked: KeepDirectory): Promise<DirectoryTrial> {
    requireAdmin(who);
    await this.attempts.take(`directory trial of ${who.personId}`, TRIALS);
    return tryDirectory(this.dialler, await this.withPassword(this.db.manager, asked), this.clock.now());
  }

  async keep(who: Who, asked: KeepDirectory): Promise<Directory> {
    requireAdmin(who);
    for (const [n, branch] of asked.branches.entries())
      if (dnKey(branch) === null)
        throw invalidField(`branches.${n}`, 'directory.branch', `${branch} is no distinguished name.`);
    await this.events.change(async (tx) => {
      const { bindPassword, ...settings } = await this.withPassword(tx, asked);
      await keepDirectory(tx, this.config.sealingKey, { settings, bindPassword, at: this.clock.date() });
      if (settings.awayDays === 0) await forgetVerifiers(tx);
      await this.told(tx, who, 'directory.kept', {
        servers: settings.servers.map((s) => `${s.host}:${s.port}`).join(', '),
        branches: settings.branches.join('; ') || 'no branch',
      });
    });
    return this.state();
  }

  /** It is asked no more. Whoever came from it keeps what they have, and gets a password by a link. */
  async forget(who: Who): Promise<Directory> {
    requireAdmin(who);
    await this.events.change(async (tx) => {
      if (!(await forgetDirectory(tx))) return;
      await this.told(tx, who, 'directory.forgotten', { count: await unlink(tx, null) });
    });
    return this.state();
  }

  /** Somebody has a password here again, which they set by a link. */
  async detach(who: Who, personId: string): Promise<void> {
    requireAdmin(who);
    await this.events.change(async (tx) => {
      const [person] = await accountRecords(tx, [personId]);
      if (!person) throw notFound('This person');
      const { name } = person;
      if ((await unlink(tx, personId)) === 0)
        throw new Problem('conflict', 'directory.not-of-it', `${name} is not of the directory.`);
      await this.told(tx, who, 'directory.detached', { name });
    });
  }

  /** Entries by a word, or what stands right below a branch. @throws Problem directory.none, directory.fault */
  async find(who: Who, { words, under }: DirectoryFind): Promise<DirectoryFindAnswer> {
    await this.attempts.take(`directory search of ${who.personId}`, TRIALS * 2);
    const way = await this.requireWay();
    const known = await entryIds(this.db.manager);
    const { schema } = way;
    const attributes = [...new Set([...schema.nameAttributes, ...schema.emailAttributes, ...schema.signInAttributes])];
    const all = `(|${schema.personFilter}${schema.groupFilter}${under === null ? '' : BRANCHES})`;
    const filter = searchFilter(all, attributes, words);
    const entries = await this.onLine(way, (line) =>
      line.first(filter, FOUND_SHOWN + 1, under === null ? {} : { scope: 'one', base: under }),
    );
    const found = entries.slice(0, FOUND_SHOWN).map((entry) => foundOf(entry, schema, known));
    const order = { branch: 0, group: 1, person: 2 };
    found.sort((a, b) => order[a.kind] - order[b.kind] || a.name.localeCompare(b.name));
    return { found, more: entries.length > FOUND_SHOWN };
  }

  /** Opens a line to the first server that answers. @throws Problem directory.fault */
  async onLine<T>(way: DirectoryWay, work: (line: DirectoryLine) => Promise<T>): Promise<T> {
    let fault: DirectoryFault | null = null;
    for (const server of way.servers) {
      let line: DirectoryLine | null = null;
      try {
        line = await DirectoryLine.open(this.dialler, server, way);
        return await work(line);
      } catch (error) {
        if (!(error instanceof DirectoryFault)) throw error;
        fault ??= error;
      } finally {
        await line?.close();
      }
    }
    const words = fault ? `${fault.message} ${fault.remedy}` : 'There is no server to ask.';
    throw new Problem('unavailable', 'directory.fault', words);
  }

  /** @throws Problem directory.none */
  async requireWay(): Promise<DirectoryWay> {
    const way = await this.way(this.db.manager);
    if (!way) throw new Problem('conflict', 'directory.none', 'No directory is connected yet.');
    return way;
  }

  private way(m: EntityManager): Promise<DirectoryWay | null> {
    return loadDirectory(m, this.config.sealingKey);
  }

  /** The kept password goes to the machines alone that it was typed for. */
  private async withPassword(m: EntityManager, { bindPassword, ...settings }: KeepDirectory): Promise<DirectoryWay> {
    if (bindPassword !== null) return { ...settings, bindPassword };
    const kept = await this.way(m);
    const stays =
      kept?.roots === settings.roots &&
      settings.servers.every((after) =>
        kept.servers.some((before) => passwordStays(doorOf(before, kept), doorOf(after, settings))),
      );
    if (!kept || !stays)
      throw invalidField('bindPassword', 'directory.password-again', 'Type the password for these servers once more.');
    return { ...settings, bindPassword: kept.bindPassword };
  }

  private async told(
    tx: EntityManager,
    who: Who,
    kind: string,
    detail: Record<string, string | number>,
  ): Promise<void> {
    await this.events.tell(tx, { topic: 'access', id: 'changed' });
    await this.ledger.append(tx, { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail });
  }
}

const settingsOf = ({ bindPassword: _, ...settings }: DirectoryWay): DirectorySettings => settings;

const doorOf = ({ host, port }: { host: string; port: number }, { encryption, bindDn }: DirectorySettings) => ({
  ...{ host, port, user: bindDn },
  encryption: encryption === 'ldaps' ? ('tls' as const) : ('starttls' as const),
});

function foundOf(entry: DirectoryEntry, schema: DirectorySchema, known: ReadonlySet<string>): DirectoryFound {
  const { dn, id } = entry;
  const there = { dn, entryId: id, state: known.has(id) ? ('here' as const) : ('free' as const), words: '' };
  const classes = (entry.attributes.get('objectclass') ?? []).map((c) => c.toLowerCase());
  const has = (...names: string[]) => names.some((name) => classes.includes(name));
  if (has('organizationalunit', 'organization', 'container', 'domain', 'builtindomain', 'locality') && !has('person'))
    return { ...there, entryId: null, state: 'free', kind: 'branch', name: lastName(dn), more: '' };
  if (id === '')
    return {
      ...there,
      entryId: null,
      state: 'fault',
      kind: 'person',
      name: lastName(dn),
      more: '',
      words: 'It has no id.',
    };
  const hasMembers = schema.memberAttributes.some((a) => entry.attributes.has(a.toLowerCase()));
  const isGroup = hasMembers || has('group', 'groupofnames', 'groupofuniquenames', 'posixgroup');
  const read = isGroup ? groupOf(entry, schema) : personOf(entry, schema);
  if ('fault' in read)
    return {
      ...there,
      state: 'fault',
      kind: isGroup ? 'group' : 'person',
      name: lastName(dn),
      more: '',
      words: read.fault,
    };
  if ('members' in read) return { ...there, kind: 'group', name: read.name, more: `${read.members.length} in it` };
  const person = {
    ...there,
    kind: 'person' as const,
    name: read.name,
    more: `${read.email}, signs in as ${read.signInName}`,
  };
  return read.disabled && there.state === 'free' ? { ...person, state: 'fault', words: 'disabled there' } : person;
}
