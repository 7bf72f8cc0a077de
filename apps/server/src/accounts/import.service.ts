import { newPersonSchema, type ImportAnswer, type ImportLine, type ImportPeople, type ImportRow } from '@quay/contract';
import { beginsAsFormula } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { GroupsService } from '../access/groups.service.js';
import type { NewEntry } from '../ledger/ledger.service.js';
import { accountRecords } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { InvitationsService, type Begun } from './invitations.service.js';
import { PeopleService } from './people.service.js';
import { unusablePassword } from './unusable-password.js';

/** What a row comes to. */
type Judged = ImportLine & { row: ImportRow };

/** Takes a list of people in: looked at first, line by line; what is kept is kept whole. */
@Injectable()
export class ImportService {
  constructor(
    private readonly db: DataSource,
    private readonly office: Office,
    private readonly groups: GroupsService,
    private readonly people: PeopleService,
    private readonly invitations: InvitationsService,
  ) {}

  /** @throws Problem import.faults where a line cannot be taken and it is to be kept */
  async take(who: Who, asked: ImportPeople): Promise<ImportAnswer> {
    const { lines, newGroups } = await this.judge(this.db.manager, who, asked);
    if (!asked.keep) return { lines: lines.map(lineOf), newGroups, invitations: [] };
    const { homes } = await this.office.settings();
    const passwordHash = await unusablePassword();
    const invitations = await this.invitations.giveAll(who, asked.mail ? 'mail' : 'link', async (tx) => {
      const { ids, entries } = await this.groups.namedIn(tx, who, asked.makeGroups ? newGroups : []);
      // Looked at again, because others may have added somebody meanwhile.
      const now = await this.judge(tx, who, { ...asked, makeGroups: false });
      const [fault] = now.lines.filter((line) => line.outcome === 'fault');
      if (fault) throw faults(fault);
      const begun: Begun[] = [];
      for (const { row } of now.lines.filter((line) => line.outcome === 'added'))
        begun.push(await this.add(tx, who, row, { ids, homes, passwordHash }));
      return withFirst(begun, entries);
    });
    return { lines: lines.map(lineOf), newGroups, invitations };
  }

  private add(
    tx: EntityManager,
    who: Who,
    { name, email, signInName, groups }: ImportRow,
    how: { ids: Map<string, string>; homes: boolean; passwordHash: string },
  ): Promise<Begun> {
    const groupIds = groups.map((group) => how.ids.get(group)).filter((id): id is string => id !== undefined);
    return this.people.addIn(
      tx,
      who,
      { name: name.trim(), email: email.trim(), signInName, role: 'staff', groupIds },
      how,
    );
  }

  private async judge(
    m: EntityManager,
    who: Who,
    { rows, makeGroups }: ImportPeople,
  ): Promise<{ lines: Judged[]; newGroups: string[] }> {
    const everybody = await accountRecords(m, null);
    const groups = new Set((await this.groups.list(who, m)).map((g) => g.name));
    const names = new Map(everybody.map((p) => [p.signInName, p.name]));
    const mails = new Map(everybody.map((p) => [p.email.toLowerCase(), p.name]));
    const newGroups = new Set<string>();
    const lines = rows.map((row): Judged => {
      const told = (outcome: ImportLine['outcome'], words: string) => ({
        line: row.line,
        name: row.name,
        outcome,
        words,
        row,
      });
      const fault = faultIn(row);
      if (fault) return told('fault', fault);
      const there = mails.get(row.email.trim().toLowerCase());
      if (there !== undefined) return told('there', `${there} has that mail address already, and stays as they are.`);
      const taken = names.get(row.signInName);
      if (taken !== undefined) return told('fault', `${taken} signs in as ${row.signInName} already.`);
      const missing = row.groups.filter((group) => !groups.has(group));
      if (missing.length > 0 && !makeGroups)
        return told('fault', `There is no group called ${missing.join(', ')}. Groups can be made from the list.`);
      for (const group of missing) newGroups.add(group);
      names.set(row.signInName, row.name);
      mails.set(row.email.trim().toLowerCase(), row.name);
      return told(
        'added',
        row.groups.length > 0 ? `Gets an account, in ${row.groups.join(' and ')}.` : 'Gets an account.',
      );
    });
    return { lines, newGroups: [...newGroups] };
  }
}

const lineOf = ({ row: _, ...line }: Judged): ImportLine => line;

/** What was made on the way is told of before whom it was made for. */
const withFirst = (begun: Begun[], entries: NewEntry[]): Begun[] =>
  begun.map((one, i) => (i === 0 ? { ...one, entries: [...entries, ...one.entries] } : one));

/** What is wrong with a row by itself; null: nothing. */
function faultIn({ name, email, signInName, groups }: ImportRow): string | null {
  const formula = [name, email, signInName, ...groups].find(beginsAsFormula);
  if (formula !== undefined) return `“${formula.slice(0, 40)}” begins as a formula of a spreadsheet does.`;
  if (name.trim() === '') return 'The name is missing.';
  if (email.trim() === '') return 'The mail address is missing.';
  const { error } = newPersonSchema.validate({ name, email, signInName });
  return error?.details[0]?.message ?? null;
}

const faults = ({ line, words }: ImportLine): Problem =>
  new Problem('conflict', 'import.faults', `Nothing was taken in: line ${line}. ${words}`);
