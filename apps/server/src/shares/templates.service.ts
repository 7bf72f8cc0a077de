import { Injectable } from '@nestjs/common';
import { MOST_TEMPLATES, type KeepTemplate, type SlipTemplate } from '@quay/contract';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { AccessService } from '../access/access.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { actorOf, uniqueName } from '../stores/names.js';
import { meantBy } from './audience.js';
import { countTemplates, dropTemplate, insertTemplate, templatesOf } from './templates.queries.js';

/** Choices of the slip that somebody keeps for themselves, or whoever runs the server for all of the office. */
@Injectable()
export class TemplatesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
  ) {}

  /** A place for files that whoever asks does not see is not among their terms. */
  async list(who: Who): Promise<SlipTemplate[]> {
    const all = await templatesOf(this.db.manager, who.personId);
    const seen = await this.access.seen(
      who,
      all.flatMap((t) => t.terms.place?.id ?? []),
    );
    return all.map((template) => {
      const { place, ...terms } = template.terms;
      return place && seen.has(place.id) ? template : { ...template, terms };
    });
  }

  /** @throws Problem duty.missing, name.taken, template.too-many, and what is wrong with whom it is for */
  async keep(who: Who, { name, office, terms }: KeepTemplate): Promise<SlipTemplate[]> {
    if (office) requireDuty(who, 'run-server');
    // An audience that is nobody yet is chosen when the template is used.
    const { kind, listed, members } = terms.audience;
    const isOpen = (kind === 'listed' && listed.length === 0) || (kind === 'members' && members.length === 0);
    if (!isOpen) meantBy(terms.audience);
    if (terms.place) await this.access.requireNode(who, terms.place.id, 'add');
    const personId = office ? null : who.personId;
    await this.events.change(async (tx) => {
      if ((await countTemplates(tx, personId)) >= MOST_TEMPLATES)
        throw new Problem(
          'conflict',
          'template.too-many',
          `There are ${MOST_TEMPLATES} templates already. Take out one that nobody uses any more.`,
        );
      const template = { id: uuidv7(), personId, name, terms, at: this.clock.date() };
      await uniqueName(name, () => insertTemplate(tx, template));
      if (office) await this.ledger.append(tx, { kind: 'template.kept', actor: actorOf(who), detail: { name } });
    });
    return this.list(who);
  }

  async remove(who: Who, id: string): Promise<SlipTemplate[]> {
    const template = (await this.list(who)).find((t) => t.id === id);
    if (!template) throw notFound('This template');
    if (template.office) requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      if (!(await dropTemplate(tx, id)) || !template.office) return;
      await this.ledger.append(tx, { kind: 'template.removed', actor: actorOf(who), detail: { name: template.name } });
    });
    return this.list(who);
  }
}
