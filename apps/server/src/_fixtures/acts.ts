import type { FolderPage, MoveAnswer, PastFolder, RestoreAnswer, StoreSummary } from '@quay/contract';
import type { Answer, Client, TestOffice } from './office.js';

// What people do in the stores, over HTTP, in as few words as a test needs.

/** Makes a folder. @returns its id */
export const folder = async (by: Client, parent: string, name: string): Promise<string> =>
  (await by.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;

/** The names in a folder, as it is listed. */
export const names = async (by: Client, id: string, query = ''): Promise<string[]> =>
  (await by.ask<FolderPage>('GET', `/api/folders/${id}${query}`)).body.items.map((i) => i.name);

export const move = (by: Client, nodeIds: string[], toFolderId: string, ifTaken = 'refuse', widens = true) =>
  by.ask<MoveAnswer>('POST', '/api/nodes/move', { nodeIds, toFolderId, ifTaken, widens });

export const copy = (by: Client, nodeIds: string[], toFolderId: string) =>
  by.ask<{ nodeIds: string[] }>('POST', '/api/nodes/copy', { nodeIds, toFolderId });

export const trash = (by: Client, nodeIds: string[]) => by.ask('POST', '/api/trash', { nodeIds });

export const putBack = (by: Client, nodeIds: string[], toFolderId?: string) =>
  by.ask('POST', '/api/trash/put-back', { nodeIds, ...(toFolderId && { toFolderId }) });

export const purge = (by: Client, nodeIds: string[]) => by.ask('POST', '/api/trash/purge', { nodeIds });

export const rename = (by: Client, id: string, name: string) => by.ask('PATCH', `/api/nodes/${id}`, { name });

export const past = (by: Client, id: string, at: string) =>
  by.ask<PastFolder>('GET', `/api/folders/${id}/past?at=${at}`);

export const bringBack = (
  by: Client,
  id: string,
  at: string,
  nodeIds: string[] | null = null,
): Promise<Answer<RestoreAnswer>> => by.ask<RestoreAnswer>('POST', `/api/folders/${id}/restore`, { at, nodeIds });

/** The store of a folder. */
export const storeOf = async (by: Client, folderId: string): Promise<string> =>
  (await by.ask<FolderPage>('GET', `/api/folders/${folderId}`)).body.folder?.storeId as string;

export const usedBytes = async (by: Client, name: string): Promise<number> =>
  (await by.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.name === name)?.usedBytes ?? NaN;

/** The moment that the office's clock shows; it moves on by a minute. */
export function moment(office: TestOffice): string {
  const at = office.clock.date().toISOString();
  office.clock.advance(60_000);
  return at;
}
