import { Injectable } from '@nestjs/common';
import { isLitter, nameFault, NAME_FAULT_WORDS, nameKey, normalizeName, type PathExtent } from '@quay/core';
import { IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import type { Bringer } from '../access/folder-admission.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { extentTo } from '../stores/branch.queries.js';
import { nameTaken } from '../stores/names.js';
import { freeNames, insertNodeIfFree, type NodeRow } from '../stores/names.queries.js';
import { Node } from '../stores/stores.entity.js';
import { admitLocked, depthProblem, type LockMode } from './recording.js';

/** What goes below one folder in a transaction, and the folders that were met on the way. */
export interface Below {
  tx: EntityManager;
  by: Bringer;
  how: { folderId: string; storeId: string; lock: LockMode };
  depth: PathExtent;
  /** Folders by their folded paths; a Problem where there cannot be one. */
  folders: Map<string, string | Problem>;
  /** Names that were given here, each with its folder ({@link placeKey}). */
  made: Set<string>;
}

/** Folders below the one that something is brought into, found or made. */
@Injectable()
export class FoldersBelow {
  constructor(
    private readonly clock: Clock,
    private readonly events: Events,
  ) {}

  async begin(tx: EntityManager, by: Bringer, how: Below['how']): Promise<Below> {
    const depth = await extentTo(tx, how.folderId);
    return { tx, by, how, depth, folders: new Map([['', how.folderId]]), made: new Set() };
  }

  /** The folder that these names lead to, made where it is not there; a Problem when it cannot be. */
  async folder(to: Below, names: readonly string[]): Promise<string | Problem> {
    const { folders, depth } = to;
    let [at, id] = ['', to.how.folderId];
    for (const [level, part] of names.entries()) {
      const name = normalizeName(part);
      at = `${at}/${nameKey(name)}`;
      const known =
        folders.get(at) ??
        depthProblem(depth, names.slice(0, level + 1)) ??
        (await orProblem(this.makeFolder(to, id, name)));
      folders.set(at, known);
      if (known instanceof Problem) return known;
      id = known;
    }
    return id;
  }

  private async makeFolder(to: Below, parentId: string, wished: string): Promise<string> {
    const { tx, by, how, made } = to;
    const fault = nameFault(wished);
    if (fault) throw invalidField('name', fault, `${NAME_FAULT_WORDS[fault]} (the folder "${wished}")`);
    for (;;) {
      const present = await tx.findOne(Node, { where: { parentId, nameKey: nameKey(wished), trashedAt: IsNull() } });
      // Locked, so that it stays where it is until this is done. It may be less theirs than what it is in.
      const there = present?.kind === 'folder' ? await unlessHidden(admitLocked(tx, by, present.id, how.lock)) : null;
      if (there) return there.folderId;
      const hidden = present !== null && (present.kind === 'folder' || !(await by.sees(present.id, tx)));
      if (present && !hidden) throw nameTaken(wished);
      const name = hidden ? ((await freeNames(tx, parentId, [wished]))[0] as string) : wished;
      const row = folderRow(by, { id: uuidv7(), parentId, storeId: how.storeId, name, at: this.clock.date() });
      // Somebody may be making the same one just now: then it is there, and looked at again.
      if (!(await insertNodeIfFree(tx, row))) continue;
      made.add(placeKey({ folderId: parentId, key: nameKey(name) }));
      await this.events.tell(tx, { topic: 'node', id: parentId });
      return row.id;
    }
  }
}

export const placeKey = ({ folderId, key }: { folderId: string; key: string }): string => `${folderId} ${key}`;

async function orProblem<T>(asked: Promise<T>): Promise<T | Problem> {
  try {
    return await asked;
  } catch (error) {
    if (error instanceof Problem) return error;
    throw error;
  }
}

const folderRow = (
  by: Bringer,
  { id, parentId, storeId, name, at }: { id: string; parentId: string; storeId: string; name: string; at: Date },
): NodeRow => ({
  id,
  store_id: storeId,
  parent_id: parentId,
  kind: 'folder',
  name,
  name_key: nameKey(name),
  litter: isLitter(name),
  size_bytes: 0,
  media_type: null,
  version_id: null,
  created_at: at,
  changed_at: at,
  changed_by: by.actor.id,
});

/** Null when that is not there for whoever asked; every other refusal stands. */
async function unlessHidden<T>(asked: Promise<T>): Promise<T | null> {
  try {
    return await asked;
  } catch (error) {
    if (error instanceof Problem && error.code === 'not-found') return null;
    throw error;
  }
}
