import type { AccessAnswer, AccessTrial, AskAccess } from '@quay/contract';
import {
  countOf,
  effectiveAccess,
  explainAccess,
  LEVEL_FOR_ACT,
  LEVEL_WORDS,
  levelOfCell,
  levelOn,
  actBits,
  namedAs,
  readQuestion,
  whoCanReach,
  type AccessQuestion,
  type Act,
  type RootFolder,
} from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Office } from '../platform/office.js';
import { loadAskers, loadChain } from './access-facts.js';
import { AccessService } from './access.service.js';
import { grantsByIds } from './grants.queries.js';
import { groupNames } from './groups.queries.js';
import { ReachedService } from './reached.service.js';
import { folderNames, foldersNamed, peopleNamed, type PersonNamed } from './table.queries.js';

/** Names that a sentence bears. */
const NAMED = 6;
const NOTHING: Omit<AccessAnswer, 'words' | 'understood'> = { lines: [], folder: null, person: null, mend: null };

interface Folder {
  id: string;
  name: string;
}

/** Answers questions about who may what, in a sentence. */
@Injectable()
export class QuestionsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly reached: ReachedService,
    private readonly office: Office,
  ) {}

  async ask(who: Who, { text, here }: AskAccess): Promise<AccessAnswer> {
    const question = readQuestion(text);
    if (!question)
      return {
        ...NOTHING,
        understood: false,
        words: 'Ask “who can open Payroll”, “what can Noel reach” or “why can’t Zoe upload here”.',
      };
    switch (question.kind) {
      case 'who':
        return this.whoMay(who, question);
      case 'what':
        return this.whatIsReached(who, question.person);
      case 'why-not':
        return this.whyNot(who, question, here ?? null);
    }
  }

  private async whoMay(who: Who, { act, folder: typed }: AccessQuestion & { kind: 'who' }): Promise<AccessAnswer> {
    const folder = await this.folder(who, typed);
    if ('words' in folder) return folder;
    const chain = await loadChain(this.db.manager, folder.id);
    const askers = await loadAskers(this.db.manager, null);
    const may = whoCanReach(chain, (chain.at(-1) as RootFolder).store, askers, this.clock.now()).filter(({ access }) =>
      [...access.acts, ...access.own].includes(act),
    );
    const people = new Map((await peopleNamed(this.db.manager, this.clock.date())).map((p) => [p.id, p.name]));
    const names = may.flatMap((m) => people.get(m.personId) ?? []).sort((a, b) => a.localeCompare(b, 'en'));
    const words = `${names.length === 0 ? 'Nobody' : listed(names)} ${levelOn(LEVEL_FOR_ACT[act], folder.name)}.`;
    return { ...NOTHING, understood: true, words, folder };
  }

  private async whatIsReached(who: Who, typed: string): Promise<AccessAnswer> {
    const person = await this.person(typed);
    if ('words' in person) return person;
    const { reaches, hidden } = await this.reached.of(who, person.id);
    const lines = reaches.map(
      (r) => `${r.path.join(' / ')}: ${r.level ? LEVEL_WORDS[r.level] : 'only says who reaches it'}`,
    );
    if (hidden > 0) lines.push(`And ${countOf(hidden, 'folder')} that you have no part in.`);
    const words =
      lines.length === 0
        ? `${person.name} reaches nothing that belongs to the office.`
        : `${person.name} reaches ${countOf(reaches.length, 'folder')} and what lies in them.`;
    return { ...NOTHING, understood: true, words, lines, person };
  }

  private async whyNot(
    who: Who,
    { person: typed, act, folder: typedFolder }: AccessQuestion & { kind: 'why-not' },
    here: string | null,
  ): Promise<AccessAnswer> {
    const person = await this.person(typed);
    if ('words' in person) return person;
    if (typedFolder === null && here === null)
      return notUnderstood('Say in which folder, or ask where you look at it.');
    const folder = typedFolder === null ? await this.hereFor(who, here as string) : await this.folder(who, typedFolder);
    if ('words' in folder) return folder;
    const m = this.db.manager;
    const at = this.clock.now();
    const chain = await loadChain(m, folder.id);
    const { store } = chain.at(-1) as RootFolder;
    const [asker] = await loadAskers(m, [person.id]);
    if (!asker) return notUnderstood(`${person.name} has no account.`);
    const access = effectiveAccess(chain, store, asker, at);
    const why = explainAccess(chain, store, asker, at, await this.names(who, chain));
    const may = access.acts.includes(act);
    const level = LEVEL_FOR_ACT[act];
    const has = levelOfCell({ acts: actBits(access.acts), own: actBits(access.own) });
    const words = may
      ? `${person.name} ${levelOn(has ?? level, folder.name)}: that includes it.`
      : has === null
        ? `${person.name} reaches nothing in ${folder.name}.`
        : access.own.includes(act)
          ? `${person.name} may do that in ${folder.name} with what they brought themselves, and with nothing else.`
          : `${person.name} ${levelOn(has, folder.name)}, and for that they would need “${LEVEL_WORDS[level]}”.`;
    const canMend = !may && store.kind === 'common' && (await this.manages(who, folder.id));
    return {
      ...{ understood: true, words, lines: why, folder, person: { id: person.id, name: person.name } },
      mend: canMend ? await this.mend(person, folder, act) : null,
    };
  }

  /** What they have on the folder becomes more, or they are granted it there. */
  private async mend(person: PersonNamed, folder: Folder, act: Act): Promise<AccessAnswer['mend']> {
    const level = LEVEL_FOR_ACT[act];
    const chain = await loadChain(this.db.manager, folder.id);
    const own = chain
      .filter((f) => f.id === folder.id)
      .flatMap((f) => f.grants)
      .filter((g) => g.subject.kind === 'person' && g.subject.id === person.id);
    const held = (
      await grantsByIds(
        this.db.manager,
        own.map((g) => g.id),
      )
    ).find((g) => g.endedAt === null);
    const trial: AccessTrial = held
      ? { replace: { grantId: held.id, level } }
      : { grant: { folderId: folder.id, subject: { kind: 'person', id: person.id }, level } };
    return {
      words: `${person.name} ${levelOn(level, folder.name)}`,
      folderId: folder.id,
      trial,
      until: held?.until?.toISOString() ?? null,
    };
  }

  private async manages(who: Who, folderId: string): Promise<boolean> {
    return (await this.reached.managed(who, [folderId])).has(folderId);
  }

  private async names(who: Who, chain: readonly RootFolder[]) {
    const ids = chain.map((f) => f.id);
    const known = await this.reached.known(who, ids);
    const [folders, groups] = [await folderNames(this.db.manager, ids, null), await groupNames(this.db.manager)];
    const named = new Map(folders.map((f) => [f.id, f.name]));
    return {
      folder: (id: string) => (known.has(id) ? (named.get(id) ?? '') : 'a folder above'),
      group: (id: string) => groups.get(id) ?? 'a group',
      zone: (await this.office.settings()).zone,
    };
  }

  private async hereFor(who: Who, id: string): Promise<Folder | AccessAnswer> {
    const [folder] = (await this.reached.known(who, [id])).has(id)
      ? await folderNames(this.db.manager, [id], null)
      : [];
    return folder ? { id: folder.id, name: folder.name } : notUnderstood('That folder is not there any more.');
  }

  private async folder(who: Who, typed: string): Promise<Folder | AccessAnswer> {
    const named = await foldersNamed(this.db.manager, typed);
    const known = await this.reached.known(
      who,
      named.map((f) => f.id),
    );
    const [first, second] = named.filter((f) => known.has(f.id));
    if (!first) return notUnderstood(`No folder that you know of is called ${typed}.`);
    if (second) return notUnderstood(`Several folders are called ${typed}. Ask in the one that you mean: “… here”.`);
    return first;
  }

  private async person(typed: string): Promise<PersonNamed | AccessAnswer> {
    const found = namedAs(typed, await peopleNamed(this.db.manager, this.clock.date()));
    const [first, second] = found;
    if (!first) return notUnderstood(`Nobody here is called ${typed}.`);
    if (second) return notUnderstood(`Which one: ${listed(found.map((p) => p.name))}?`);
    return first;
  }
}

const notUnderstood = (words: string): AccessAnswer => ({ ...NOTHING, understood: true, words });

function listed(names: readonly string[]): string {
  const shown = names.slice(0, NAMED);
  const rest = names.length - shown.length;
  if (rest > 0) return `${shown.join(', ')} and ${countOf(rest, 'other')}`;
  return shown.length < 2 ? shown.join('') : `${shown.slice(0, -1).join(', ')} and ${shown.at(-1) as string}`;
}
