import { Injectable } from '@nestjs/common';
import type { FolderPage, FolderQuery, SeenAs, SeenFolder, SeenShare, StoreSummary } from '@quay/contract';
import { DataSource } from 'typeorm';
import { AccessService } from '../access/access.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { accountRecords } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { ForMeService } from '../shares/for-me.service.js';
import { SeeingService } from '../visits/seeing.service.js';
import { StoresService } from '../stores/stores.service.js';

/** What is told in place of a name that whoever looks may not know. */
const UNSEEN = '…';
const ONE_LOOK_MS = 10 * 60_000;

/**
 * The stores and folders as somebody else gets them: by the same code that answers them, and never their home. Whoever
 * looks learns nothing that is not theirs to see by it: of that the number is told alone. Each look is in the ledger.
 */
@Injectable()
export class SeenAsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly access: AccessService,
    private readonly stores: StoresService,
    private readonly forMe: ForMeService,
    private readonly seeing: SeeingService,
  ) {}

  /** Where they begin. @throws Problem not-found, person.disabled */
  async start(who: Who, personId: string): Promise<SeenAs> {
    const them = await this.require(personId);
    const all = (await this.stores.stores(them)).filter((store) => store.kind !== 'home');
    const stores = await this.shown(who, all, (store) => store.rootId);
    const shared = await this.forMe.listAs(who, personId);
    await this.looked(who, them, 'their stores');
    return {
      ...shared,
      person: { id: personId, name: them.name, role: them.role },
      stores,
      hidden: all.length - stores.length,
    };
  }

  /** A page of a folder. @throws Problem not-found: it is in a home, or one of the two does not see it */
  async folder(who: Who, personId: string, folderId: string, query: FolderQuery): Promise<SeenFolder> {
    const them = await this.require(personId);
    const place = await this.access.requireNode(them, folderId, 'see');
    if (place.storeKind === 'home' || !(await this.access.sees(who, folderId))) throw notFound('This folder');
    const page = await this.stores.folder(them, folderId, query);
    const items = await this.shown(who, page.items, (item) => item.id);
    if (page.folder) await this.looked(who, them, page.folder.name);
    return {
      person: { id: personId, name: them.name, role: them.role },
      page: { ...page, items, folder: page.folder && (await this.pathFor(who, page.folder)) },
      hidden: page.items.length - items.length,
    };
  }

  /** The page of a share that is for them. @throws Problem not-found */
  async share(who: Who, personId: string, shareId: string): Promise<SeenShare> {
    const them = await this.require(personId);
    const share = await this.forMe.oneAs(who, personId, shareId);
    const page = await this.seeing.letIn(share, them.name, `look of ${who.personId}`);
    await this.looked(who, them, `the share ${share.title}`);
    return { person: { id: personId, name: them.name, role: them.role }, page };
  }

  private async pathFor(who: Who, folder: NonNullable<FolderPage['folder']>): Promise<FolderPage['folder']> {
    const seen = await this.access.seen(
      who,
      folder.path.map((part) => part.id),
    );
    const path = folder.path.map((part) => (seen.has(part.id) ? part : { ...part, name: UNSEEN }));
    return { ...folder, path };
  }

  private async shown<T extends StoreSummary | FolderPage['items'][number]>(
    who: Who,
    all: T[],
    idOf: (one: T) => string,
  ): Promise<T[]> {
    const seen = await this.access.seen(who, all.map(idOf));
    return all.filter((one) => seen.has(idOf(one)));
  }

  private async require(personId: string): Promise<Who> {
    const [record] = await accountRecords(this.db.manager, [personId]);
    if (!record) throw notFound('This person');
    const { name, role, duties, disabledAt } = record;
    if (disabledAt) throw new Problem('conflict', 'person.disabled', `${name} sees nothing: the account is disabled.`);
    return { personId, name, role, duties };
  }

  /** A page that stays open asks again with each change; that is one look. */
  private async looked(who: Who, them: Who, what: string): Promise<void> {
    const entry: NewEntry = {
      kind: 'person.seen-as',
      actor: { kind: 'person', id: who.personId, name: who.name },
      detail: { name: them.name, what },
    };
    const since = new Date(this.clock.now() - ONE_LOOK_MS);
    if (await this.ledger.wasLately(this.db.manager, entry, since)) return;
    await this.events.change((tx) => this.ledger.append(tx, entry));
  }
}
