import { Injectable } from '@nestjs/common';
import {
  actBits,
  admissionWords,
  fileFault,
  isLitter,
  momentInWords,
  nameKey,
  pathFault,
  PATH_FAULT_WORDS,
  utf8Bytes,
  type PathExtent,
} from '@quay/core';
import type { PastFolder, PastItem, RestoreAnswer, RestorePast } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { lockAccess } from '../access/access-lock.js';
import { pathOf } from '../access/access.queries.js';
import { AccessService, type ReachableNode } from '../access/access.service.js';
import { AdmissionService, type StoreRules } from './admission.service.js';
import { actorOf, mediaTypeOf } from './names.js';
import { extentTo, lockNodes } from './branch.queries.js';
import { freeNames, insertNodes, insertVersions, type NodeRow } from './names.queries.js';
import { childrenAt, momentsOf, sorted, withChildrenAt, type PastRow } from './past.queries.js';
import { VersionsService } from './versions.service.js';

/** Where something is brought back to. */
interface Place {
  targetId: string;
  storeId: string;
  /** Levels and bytes of the way there, so that nothing is made deeper than can be opened. */
  depth: PathExtent;
}

/** One bringing back: who asks, what they reach today, and what has become of it so far. */
interface Restoring {
  tx: EntityManager;
  who: Who;
  at: Date;
  /** Of the store that it comes back to: they hold for what comes back as for what comes new. */
  rules: StoreRules;
  answer: RestoreAnswer;
}

const MOST_ITEMS_SHOWN = 20_000;
/** The most items that are brought back at once; more is refused before anything is done. */
const MOST_RESTORED = 50_000;
const PAGE = 1000;

/**
 * Folders as they were: what the database remembers of each item, browsed and brought back. The past is shown by
 * today's rights where each item lies now; what was removed for good lies where it last lay.
 */
@Injectable()
export class PastService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly admission: AdmissionService,
    private readonly versions: VersionsService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
  ) {}

  async folder(who: Who, folderId: string, at: Date): Promise<PastFolder> {
    const node = await this.place(who, folderId);
    const m = this.db.manager;
    const [rows, path, moments] = await Promise.all([
      childrenAt(m, who.personId, folderId, at, null, MOST_ITEMS_SHOWN + 1),
      pathOf(m, who.personId, folderId),
      momentsOf(m, who.personId, folderId),
    ]);
    return {
      folder: { id: node.id, name: node.name, path, storeId: node.storeId, acts: node.acts },
      items: sorted(rows.slice(0, MOST_ITEMS_SHOWN)).map((r) => itemOf(r, folderId)),
      more: rows.length > MOST_ITEMS_SHOWN,
      moments,
    };
  }

  /**
   * Brings items of a folder back as they were at a moment, with everything in them. A file that is still there gets
   * those bytes as a new version; one that was thrown away here is put back; one that was moved elsewhere stays there,
   * and the version of that moment is copied if it may be read where it lies now. What exists now and did not then is
   * left alone.
   */
  async restore(who: Who, folderId: string, asked: RestorePast): Promise<RestoreAnswer> {
    const at = new Date(asked.at);
    if (at.getTime() > this.clock.now()) throw invalidField('at', 'at.future', 'That moment is still to come.');
    const { zone } = await this.office.settings();
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await lockNodes(tx, [folderId]);
      const folder = await this.access.requireNode(who, folderId, 'change', tx);
      const answer: RestoreAnswer = { restored: 0, same: 0, lost: [], refused: [] };
      const rules = await this.admission.rules(folder.storeId, tx);
      const restoring: Restoring = { tx, who, at, rules, answer };
      const place: Place = { targetId: folderId, storeId: folder.storeId, depth: await extentTo(tx, folderId) };
      let found = 0;
      for await (const page of this.heldChildren(restoring, folderId)) {
        const rows = page.filter((row) => asked.nodeIds === null || asked.nodeIds.includes(row.id));
        found += rows.length;
        await this.bringBack(restoring, rows, place);
      }
      if (asked.nodeIds && found < asked.nodeIds.length) throw notFound('One of these items');
      await this.ledger.append(tx, {
        kind: 'folder.restored',
        actor: actorOf(who),
        nodeId: folderId,
        detail: {
          name: folder.name,
          at: momentInWords(at.getTime(), this.clock.now(), zone),
          restored: answer.restored,
        },
      });
      return answer;
    });
  }

  /**
   * What was in a folder at the moment, each row held before it is read, so that nobody purges or moves it meanwhile.
   */
  private async *heldChildren({ tx, who, at }: Restoring, folderId: string): AsyncGenerator<PastRow[]> {
    for (let after: string | null = null; ;) {
      const ids = (await childrenAt(tx, who.personId, folderId, at, after, PAGE)).map((r) => r.id);
      if (ids.length === 0) return;
      await lockNodes(tx, ids);
      // Read again now that they are held: what has left for where it cannot be seen is not there any more.
      yield sorted(await childrenAt(tx, who.personId, folderId, at, after, PAGE, ids));
      if (ids.length < PAGE) return;
      after = ids.at(-1) as string;
    }
  }

  private async bringBack(restoring: Restoring, rows: PastRow[], place: Place): Promise<void> {
    const { tx, at, answer } = restoring;
    if (rows.length === 0) return;
    await this.events.tell(tx, { topic: 'node', id: place.targetId });
    const welcome = rows.filter((row) => this.isWelcome(restoring, row, place));
    const thrownAway = welcome.filter((row) => isHere(row, place) && row.now_trashed);
    await this.untrash(tx, thrownAway, place.targetId);
    const full = await withChildrenAt(
      tx,
      welcome.filter((r) => r.kind === 'folder').map((r) => r.id),
      at,
    );
    for (const row of welcome) {
      if (answer.restored + answer.same >= MOST_RESTORED) throw tooMany();
      if (row.kind === 'file') await this.bringFile(restoring, row, place);
      else await this.bringFolder(restoring, row, place, full.has(row.id));
    }
  }

  /** Whether an item may be brought here; if not, the answer says why. */
  private isWelcome({ rules, answer }: Restoring, row: PastRow, place: Place): boolean {
    const asItWas =
      isHere(row, place) && !row.now_trashed && (row.kind === 'folder' || row.now_version === row.version_id);
    if (asItWas && (row.kind === 'file' || mayChange(row))) return true;
    if (row.kind === 'file' && row.sha256 === null) {
      answer.lost.push(row.name);
      return false;
    }
    const why = isHere(row, place) ? whyNotHere(row) : this.whyNotFromElsewhere(row, place);
    const fault = row.kind === 'file' ? fileFault({ name: row.name, sizeBytes: Number(row.size_bytes) }, rules) : null;
    const words = why ?? (fault && admissionWords(fault, rules));
    if (words) answer.refused.push({ name: row.name, why: words });
    return !words;
  }

  /**
   * Elsewhere it is somebody's to read or not, whatever it was here; and the way here must be one that can be opened.
   */
  private whyNotFromElsewhere(row: PastRow, place: Place): string | null {
    if (row.kind === 'file' && (row.now_bits & READ) === 0)
      return 'It lies in another place now, where you may not read it.';
    const fault = pathFault(deeper(place.depth, row.name));
    return fault && PATH_FAULT_WORDS[fault];
  }

  private async bringFile(restoring: Restoring, row: PastRow, place: Place): Promise<void> {
    const { answer } = restoring;
    if (!isHere(row, place)) await this.newFile(restoring, row, place);
    else {
      if (!row.now_trashed && row.now_version === row.version_id) {
        answer.same += 1;
        return;
      }
      if (row.now_version !== row.version_id) await this.addVersion(restoring, row, place.storeId);
    }
    answer.restored += 1;
  }

  private async bringFolder(restoring: Restoring, row: PastRow, place: Place, hadChildren: boolean): Promise<void> {
    const here = isHere(row, place);
    if (!here || row.now_trashed) restoring.answer.restored += 1;
    const targetId = here ? row.id : await this.newFolder(restoring, row.name, place);
    if (!hadChildren) return;
    const inside = { targetId, storeId: place.storeId, depth: deeper(place.depth, row.name) };
    for await (const page of this.heldChildren(restoring, row.id)) await this.bringBack(restoring, page, inside);
  }

  private async addVersion({ tx, who }: Restoring, row: PastRow, storeId: string): Promise<void> {
    await this.versions.addVersion(tx, this.access.bringer(who), {
      nodeId: row.id,
      storeId,
      sha256: row.sha256 as Buffer,
      sizeBytes: Number(row.size_bytes),
      modifiedAt: row.modified_at as Date,
    });
  }

  private async untrash(tx: EntityManager, rows: PastRow[], folderId: string): Promise<void> {
    if (rows.length === 0) return;
    const names = await freeNames(
      tx,
      folderId,
      rows.map((r) => r.name),
    );
    await tx.query(
      `UPDATE node n SET trashed_at = NULL, trashed_by = NULL, name = b.name, name_key = b.key, litter = b.litter
         FROM unnest($1::uuid[], $2::text[], $3::text[], $4::boolean[]) AS b (id, name, key, litter) WHERE n.id = b.id`,
      [rows.map((r) => r.id), names, names.map(nameKey), names.map(isLitter)],
    );
  }

  private async newFolder({ tx, who }: Restoring, wished: string, place: Place): Promise<string> {
    const [name] = (await freeNames(tx, place.targetId, [wished])) as [string];
    const id = uuidv7();
    await insertNodes(tx, [this.node(who, place, { id, kind: 'folder', name, size: 0, version: null })]);
    return id;
  }

  /** A file anew, with the version of that moment and no other. */
  private async newFile({ tx, who }: Restoring, row: PastRow, place: Place): Promise<void> {
    const [name] = (await freeNames(tx, place.targetId, [row.name])) as [string];
    const [id, version] = [uuidv7(), uuidv7()];
    const size = Number(row.size_bytes);
    await insertNodes(tx, [this.node(who, place, { id, kind: 'file', name, size, version })]);
    await insertVersions(tx, [
      {
        id: version,
        node_id: id,
        number: 1,
        sha256: `\\x${(row.sha256 as Buffer).toString('hex')}`,
        size_bytes: size,
        modified_at: row.modified_at as Date,
        created_at: this.clock.date(),
        created_by: who.personId,
        charged_to: who.personId,
      },
    ]);
  }

  private node(
    who: Who,
    place: Place,
    made: { id: string; kind: 'folder' | 'file'; name: string; size: number; version: string | null },
  ): NodeRow {
    return {
      id: made.id,
      store_id: place.storeId,
      parent_id: place.targetId,
      kind: made.kind,
      name: made.name,
      name_key: nameKey(made.name),
      litter: isLitter(made.name),
      size_bytes: made.size,
      media_type: made.kind === 'file' ? mediaTypeOf(made.name) : null,
      version_id: made.version,
      created_at: this.clock.date(),
      changed_at: this.clock.date(),
      changed_by: who.personId,
    };
  }

  private async place(who: Who, folderId: string): Promise<ReachableNode> {
    const [node] = await this.access.reachable(who, [folderId], 'see');
    if (!node || node.kind !== 'folder') throw notFound('This folder');
    return node;
  }
}

const READ = actBits(['read']);
const mayChange = (row: PastRow): boolean => (row.now_bits & actBits(['change'])) !== 0;
/** A folder in this one may be closed to somebody who may change this one. */
const whyNotHere = (row: PastRow): string | null => (mayChange(row) ? null : 'You may not change it where it lies.');

/** Whether something lies where it is to be brought, in the trash or not. */
const isHere = (row: PastRow, place: Place): boolean => row.now_parent === place.targetId && !row.now_purged;

function tooMany(): Problem {
  return new Problem(
    'too-large',
    'restore.too-many',
    `At most ${MOST_RESTORED.toLocaleString('en-GB')} items are brought back at once. Nothing was changed; choose a part of it.`,
  );
}

const deeper = (extent: PathExtent, name: string): PathExtent => ({
  levels: extent.levels + 1,
  bytes: extent.bytes + 1 + utf8Bytes(name).length,
});

function itemOf(row: PastRow, folderId: string): PastItem {
  const now = row.now_purged
    ? 'gone'
    : row.now_trashed
      ? 'trashed'
      : row.now_parent !== folderId
        ? 'moved'
        : row.now_version !== row.version_id || row.now_name !== row.name
          ? 'changed'
          : 'same';
  return {
    id: row.id,
    kind: row.kind,
    name: row.name,
    mediaType: row.kind === 'file' ? mediaTypeOf(row.name) : null,
    sizeBytes: Number(row.size_bytes ?? 0),
    versionNumber: row.number,
    restorable: row.kind === 'folder' || row.sha256 !== null,
    now,
  };
}
