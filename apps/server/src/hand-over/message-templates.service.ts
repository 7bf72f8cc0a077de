import { Injectable } from '@nestjs/common';
import { MOST_MESSAGE_TEMPLATES, type KeepMessageTemplate, type MessageTemplateRow } from '@quay/contract';
import { messageFault } from '@quay/core';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { actorOf, uniqueName } from '../stores/names.js';
import {
  countMessageTemplates,
  dropMessageTemplate,
  keepMessageTemplate,
  messageTemplatesOf,
} from './message-templates.queries.js';

/** Messages that somebody keeps for themselves, or whoever runs the server for all of the office. */
@Injectable()
export class MessageTemplatesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
  ) {}

  list(who: Who): Promise<MessageTemplateRow[]> {
    return messageTemplatesOf(this.db.manager, who.personId);
  }

  /** @param id of one that is changed; null: a new one. @throws Problem message.*, name.taken, template.too-many */
  async keep(who: Who, id: string | null, { office, ...asked }: KeepMessageTemplate): Promise<MessageTemplateRow[]> {
    const before = id === null ? null : await this.require(who, id);
    // Whose it is stays as it is.
    if (before && before.office !== office) throw notFound('This message');
    if (office) requireDuty(who, 'run-server');
    const fault = messageFault(asked);
    if (fault) throw invalidField(fault.field, fault.code, fault.words);
    const personId = office ? null : who.personId;
    await this.events.change(async (tx) => {
      const count = await countMessageTemplates(tx, personId);
      if (id !== null && !(await messageTemplatesOf(tx, who.personId)).some((t) => t.id === id))
        throw notFound('This message');
      if (id === null && count >= MOST_MESSAGE_TEMPLATES)
        throw new Problem(
          'conflict',
          'template.too-many',
          `There are ${MOST_MESSAGE_TEMPLATES} messages already. Take out one that nobody uses any more.`,
        );
      await uniqueName(asked.name, () =>
        keepMessageTemplate(tx, { ...asked, id: id ?? uuidv7(), personId, at: this.clock.date() }),
      );
      if (office)
        await this.ledger.append(tx, { kind: 'message.kept', actor: actorOf(who), detail: { name: asked.name } });
    });
    return this.list(who);
  }

  async remove(who: Who, id: string): Promise<MessageTemplateRow[]> {
    const { office, name } = await this.require(who, id);
    if (office) requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      if (!(await dropMessageTemplate(tx, id)) || !office) return;
      await this.ledger.append(tx, { kind: 'message.removed', actor: actorOf(who), detail: { name } });
    });
    return this.list(who);
  }

  /** @throws Problem not-found: also of what is somebody else's */
  private async require(who: Who, id: string): Promise<MessageTemplateRow> {
    const template = (await this.list(who)).find((t) => t.id === id);
    if (!template) throw notFound('This message');
    return template;
  }
}
