import type { ConflictChoice, UploadAnswer } from '@quay/contract';
import { create } from 'zustand';
import { api, ApiProblem } from '../api';

/** A file on its way in. */
export interface Transfer {
  id: number;
  name: string;
  folderId: string;
  /** Folders below `folderId` that the file goes into, made when they are not there. */
  below: string[];
  file: File;
  conflict: ConflictChoice;
  sentBytes: number;
  state: 'waiting' | 'sending' | 'done' | 'failed';
  problem: string | null;
  code: string | null;
}

interface Transfers {
  list: Transfer[];
  /** Names that are taken, waiting for one decision for the whole batch. */
  asking: Transfer[];
  startedAt: number;
  shown: boolean;
  show: (shown: boolean) => void;
  add: (folderId: string, files: { file: File; below: string[] }[]) => void;
  /** Answers the question for every file that waits for it. */
  decide: (choice: ConflictChoice | 'skip') => void;
  retry: (id: number) => void;
  clear: () => void;
}

const AT_ONCE = 3;
let nextId = 1;
/** Folders made for a batch, by parent and name, so that a thousand files ask once for each. */
const folders = new Map<string, Promise<string>>();

export const useTransfers = create<Transfers>((set, get) => {
  const change = (id: number, part: Partial<Transfer>) => set({ list: get().list.map((t) => (t.id === id ? { ...t, ...part } : t)) });

  const pump = () => {
    const { list } = get();
    const free = AT_ONCE - list.filter((t) => t.state === 'sending').length;
    for (const transfer of list.filter((t) => t.state === 'waiting').slice(0, Math.max(0, free))) {
      change(transfer.id, { state: 'sending', sentBytes: 0, problem: null, code: null });
      void run(transfer);
    }
  };

  const run = async (transfer: Transfer) => {
    try {
      const folderId = await folderFor(transfer.folderId, transfer.below);
      await send(transfer, folderId, (sentBytes) => change(transfer.id, { sentBytes }));
      change(transfer.id, { state: 'done', sentBytes: transfer.file.size });
    } catch (error) {
      const problem = error instanceof ApiProblem ? error : new ApiProblem(0, 'unexpected', 'That did not work.');
      if (problem.code === 'name.taken' && transfer.conflict === 'refuse') {
        set({ list: get().list.filter((t) => t.id !== transfer.id), asking: [...get().asking, transfer] });
      } else change(transfer.id, { state: 'failed', problem: problem.message, code: problem.code });
    }
    pump();
  };

  return {
    list: [],
    asking: [],
    startedAt: 0,
    shown: false,
    show: (shown) => set({ shown }),
    add: (folderId, files) => {
      folders.clear();
      const added = files.map(({ file, below }) => {
        nextId += 1;
        return { id: nextId, name: file.name, folderId, below, file, conflict: 'refuse' as const, sentBytes: 0, state: 'waiting' as const, problem: null, code: null };
      });
      const idle = !get().list.some((t) => t.state === 'sending' || t.state === 'waiting');
      set({ list: [...get().list.filter((t) => !idle || t.state === 'failed'), ...added], shown: true, startedAt: idle ? Date.now() : get().startedAt });
      pump();
    },
    decide: (choice) => {
      const { asking, list } = get();
      const again = choice === 'skip' ? [] : asking.map((t) => ({ ...t, conflict: choice, state: 'waiting' as const }));
      set({ asking: [], list: [...list, ...again] });
      pump();
    },
    retry: (id) => {
      change(id, { state: 'waiting' });
      pump();
    },
    clear: () => set({ list: get().list.filter((t) => t.state === 'sending' || t.state === 'waiting'), shown: false }),
  };
});

async function folderFor(folderId: string, below: string[]): Promise<string> {
  let parent = folderId;
  for (const name of below) {
    const key = `${parent}/${name}`;
    const at = parent;
    let made = folders.get(key);
    if (!made) {
      made = api<{ id: string }>('POST', `/api/folders/${at}/folders`, { name, ifExists: 'use' }).then((f) => f.id);
      folders.set(key, made);
      made.catch(() => folders.delete(key));
    }
    parent = await made;
  }
  return parent;
}

/** Sends the bytes as they are. XMLHttpRequest, because fetch does not tell how much has been sent. */
function send(transfer: Transfer, folderId: string, progress: (sentBytes: number) => void): Promise<UploadAnswer> {
  return new Promise((resolve, reject) => {
    const query = new URLSearchParams({ name: transfer.file.name, conflict: transfer.conflict, modifiedAt: String(transfer.file.lastModified) });
    const request = new XMLHttpRequest();
    request.open('PUT', `/api/folders/${folderId}/files?${query.toString()}`);
    request.setRequestHeader('Content-Type', 'application/octet-stream');
    request.upload.onprogress = (event) => progress(event.loaded);
    request.onerror = () => reject(new ApiProblem(0, 'network.away', 'The connection broke off. Nothing was kept of this file; try again.'));
    request.onload = () => {
      const body = JSON.parse(request.responseText || '{}') as UploadAnswer & { code?: string; detail?: string };
      if (request.status === 201) resolve(body);
      else reject(new ApiProblem(request.status, body.code ?? 'unexpected', body.detail ?? 'The server gave no reason.'));
    };
    request.send(transfer.file);
  });
}
