import { FILES_CHECKED, type CheckAnswer, type ConflictChoice, type OpenUpload } from '@quay/contract';
import { create } from 'zustand';
import { api, ApiProblem } from '../api';
import type { Collected } from './collect';
import { finishResumable, retryable, sendBatch, sendResumable, stopResumable, type Sending } from './engine';
import { isSmall, nextPieces, type Planned } from './plan';
import { fileOf, forget, remember, remembered, type Remembered } from './remember';

export type TransferState = 'waiting' | 'sending' | 'paused' | 'done' | 'failed' | 'needs-file';

/** A file on its way in. */
export interface Transfer extends Planned {
  key: string;
  name: string;
  /** Folders below `folderId` that the file goes into, made when they are not there. */
  below: string[];
  /** Null after a reload, until the file is there again. */
  file: File | null;
  handle: FileSystemFileHandle | null;
  lastModified: number;
  conflict: ConflictChoice;
  /** Where the upload goes on; null before it has begun. */
  url: string | null;
  sentBytes: number;
  state: TransferState;
  problem: string | null;
  code: string | null;
  tries: number;
}

interface Transfers {
  list: Transfer[];
  /** Names that are taken, waiting for one decision for the whole batch. */
  asking: Transfer[];
  shown: boolean;
  samples: { at: number; bytes: number }[];
  show: (shown: boolean) => void;
  add: (folderId: string, files: Collected[]) => Promise<void>;
  /** Answers the question for every file that waits for it. */
  decide: (choice: ConflictChoice | 'skip') => void;
  pause: (id?: number) => void;
  resume: (id?: number) => void;
  /** Takes one out, with what has arrived of it; without an id everything that has ended. */
  clear: (id?: number) => void;
  /** What a reload left: what had begun goes on, what needs its file says so. */
  recall: () => Promise<void>;
  /** Files chosen again for those that need theirs, matched by name, size and time. @returns how many were matched */
  rejoin: (files: Collected[]) => number;
  /** Asks the browser for the files it can open again. */
  reopen: () => Promise<void>;
}

const AT_ONCE = 3;
const AGAIN_AFTER_MS = 3000;
/** After so many tries a batch is taken apart, in case one of its files is what breaks it. */
const TRIES_OF_BATCH = 4;
let nextId = 1;
const sendings = new Map<number, Sending>();
/** Folders made for a batch, by parent and name, so that a thousand files ask once for each. */
const folders = new Map<string, Promise<string>>();

export const useTransfers = create<Transfers>((set, get) => {
  const changeMany = (ids: ReadonlySet<number>, part: Partial<Transfer> | ((t: Transfer) => Partial<Transfer>)) =>
    set({
      list: get().list.map((t) => (ids.has(t.id) ? { ...t, ...(typeof part === 'function' ? part(t) : part) } : t)),
    });
  const change = (id: number, part: Partial<Transfer>) => changeMany(new Set([id]), part);
  const find = (id: number) => get().list.find((t) => t.id === id);

  const sample = () => {
    const bytes = get().list.reduce((sum, t) => sum + t.sentBytes, 0);
    const at = Date.now();
    set({ samples: [...get().samples.filter((s) => at - s.at < 8000), { at, bytes }] });
  };

  const pump = () => {
    const free = AT_ONCE - new Set([...sendings.values()]).size;
    if (free <= 0) return;
    for (const piece of nextPieces(
      get().list.filter((t) => t.state === 'waiting' && t.file),
      free,
    )) {
      const ids = new Set(piece.map((t) => t.id));
      changeMany(ids, { state: 'sending', problem: null, code: null });
      const first = piece[0] as Transfer;
      // A batch of one that was taken apart goes as a resumable upload.
      void (isSmall(first) && first.tries < TRIES_OF_BATCH ? runBatch(piece) : runOne(first));
    }
  };

  const ended = (ids: number[]) => {
    for (const id of ids) sendings.delete(id);
    sample();
    pump();
  };

  const runBatch = async (piece: Transfer[]) => {
    const [first] = piece as [Transfer];
    const ids = piece.map((t) => t.id);
    // The same files make the same batch, so that one whose answer was lost is not taken twice.
    const batchId = batchIds.get(ids.join()) ?? crypto.randomUUID();
    batchIds.set(ids.join(), batchId);
    const sending = sendBatch(
      piece.map((t) => ({ file: t.file as File, below: t.below, name: t.name })),
      first.folderId,
      first.conflict,
      batchId,
      throttled((sent) => {
        let left = sent;
        changeMany(new Set(ids), (t) => {
          const mine = Math.min(t.sizeBytes, Math.max(0, left));
          left -= t.sizeBytes + 1024;
          return { sentBytes: mine };
        });
        sample();
      }),
    );
    for (const id of ids) sendings.set(id, sending);
    try {
      const { entries } = await sending.answer;
      const taken: Transfer[] = [];
      changeMany(new Set(ids), (t) => {
        const entry = entries[ids.indexOf(t.id)];
        if (entry && 'answer' in entry) return { state: 'done', sentBytes: t.sizeBytes };
        if (entry?.code === 'name.taken' && t.conflict === 'refuse') taken.push(t);
        return {
          state: 'failed',
          problem: entry?.words ?? 'The server did not say what became of it.',
          code: entry?.code ?? 'unexpected',
        };
      });
      if (taken.length)
        set({ list: get().list.filter((t) => !taken.some((k) => k.id === t.id)), asking: [...get().asking, ...taken] });
      void forget(piece.filter((t) => !taken.some((k) => k.id === t.id)).map((t) => t.key));
    } catch (error) {
      const problem = error as ApiProblem;
      if (problem.code === 'paused') changeMany(new Set(ids), { state: 'paused', sentBytes: 0 });
      else if (retryable(problem.status)) {
        changeMany(new Set(ids), (t) => ({
          state: 'paused',
          sentBytes: 0,
          problem: problem.message,
          tries: t.tries + 1,
        }));
        setTimeout(() => again(ids), AGAIN_AFTER_MS);
      } else changeMany(new Set(ids), { state: 'failed', problem: problem.message, code: problem.code });
    }
    ended(ids);
  };

  const runOne = async (t: Transfer) => {
    try {
      const folderId = await folderFor(t.folderId, t.below);
      if (find(t.id)?.state !== 'sending') return;
      const sending = sendResumable({ file: t.file as File, below: [], name: t.name }, folderId, t.conflict, t.url, {
        begun: (url) => {
          change(t.id, { url, begun: true });
          void remember([recordOf({ ...t, url })]);
        },
        progress: throttled((sentBytes) => {
          change(t.id, { sentBytes });
          sample();
        }),
      });
      sendings.set(t.id, sending);
      await sending.answer;
      change(t.id, { state: 'done', sentBytes: t.sizeBytes });
      void forget([t.key]);
    } catch (error) {
      const problem = error instanceof ApiProblem ? error : new ApiProblem(0, 'unexpected', 'That did not work.');
      const now = find(t.id);
      if (now?.state === 'paused') void 0;
      else if (problem.code === 'name.taken' && t.conflict === 'refuse')
        set({ list: get().list.filter((k) => k.id !== t.id), asking: [...get().asking, now ?? t] });
      else if (problem.status === 404 && t.url) {
        // What had arrived has been removed meanwhile: from the beginning.
        change(t.id, { url: null, begun: false, state: 'waiting', sentBytes: 0 });
      } else if (retryable(problem.status) && problem.code !== 'name.taken') {
        change(t.id, { state: 'paused', problem: problem.message, tries: t.tries + 1 });
        setTimeout(() => again([t.id]), AGAIN_AFTER_MS);
      } else change(t.id, { state: 'failed', problem: problem.message, code: problem.code });
    }
    ended([t.id]);
  };

  /** Goes on with what broke off by itself, unless somebody has paused it since. */
  const again = (ids: number[]) => {
    changeMany(new Set(ids), (t) => (t.state === 'paused' && t.problem ? { state: 'waiting' } : {}));
    pump();
  };

  return {
    list: [],
    asking: [],
    shown: false,
    samples: [],
    show: (shown) => set({ shown }),
    add: async (folderId, files) => {
      folders.clear();
      const added = files.map(({ file, below, handle }): Transfer => {
        nextId += 1;
        return {
          id: nextId,
          key: crypto.randomUUID(),
          name: file.name,
          folderId,
          below,
          file,
          handle,
          sizeBytes: file.size,
          lastModified: file.lastModified,
          conflict: 'refuse',
          url: null,
          begun: false,
          sentBytes: 0,
          state: 'waiting',
          problem: null,
          code: null,
          tries: 0,
        };
      });
      const idle = !get().list.some(isActive);
      set({
        list: [
          ...get().list.filter((t) => !idle || t.state !== 'done'),
          ...added.map((t) => ({ ...t, state: 'paused' as const })),
        ],
        shown: true,
        samples: idle ? [] : get().samples,
      });
      const { refused, taken, problem } = await look(folderId, added);
      changeMany(new Set(added.map((t) => t.id)), (t) => {
        const words = problem ?? refused.get(t.id);
        return words ? { state: 'failed', problem: words.words, code: words.code } : { state: 'waiting' };
      });
      const asking = get().list.filter((t) => taken.has(t.id) && t.state === 'waiting');
      if (asking.length)
        set({ list: get().list.filter((t) => !asking.includes(t)), asking: [...get().asking, ...asking] });
      void remember(
        get()
          .list.filter((t) => added.some((a) => a.id === t.id) && t.state === 'waiting')
          .map(recordOf),
      );
      sample();
      pump();
    },
    decide: (choice) => {
      const { asking, list } = get();
      if (choice === 'skip') {
        void forget(asking.map((t) => t.key));
        for (const t of asking) if (t.url) stopResumable(t.url);
        set({ asking: [] });
        return;
      }
      // What has arrived whole only waits for the word.
      const whole = asking.filter((t) => t.url && t.sentBytes === t.sizeBytes);
      set({
        asking: [],
        list: [
          ...list,
          ...asking.map((t) => ({
            ...t,
            conflict: choice,
            state: whole.includes(t) ? ('sending' as const) : ('waiting' as const),
          })),
        ],
      });
      for (const t of whole)
        finishResumable(t.url as string, choice).then(
          () => change(t.id, { state: 'done' }),
          (error: Error) => change(t.id, { state: 'failed', problem: error.message, code: 'unexpected' }),
        );
      pump();
    },
    pause: (id) => {
      const ids = get()
        .list.filter((t) => (id === undefined || t.id === id) && (t.state === 'sending' || t.state === 'waiting'))
        .map((t) => t.id);
      changeMany(new Set(ids), { state: 'paused', problem: null });
      for (const one of ids) sendings.get(one)?.pause();
      for (const one of ids) if (find(one)?.url) sendings.delete(one);
      pump();
    },
    resume: (id) => {
      changeMany(
        new Set(
          get()
            .list.filter(
              (t) =>
                (id === undefined || t.id === id) &&
                (t.state === 'paused' || (id !== undefined && t.state === 'failed')) &&
                t.file,
            )
            .map((t) => t.id),
        ),
        { state: 'waiting', problem: null },
      );
      pump();
    },
    clear: (id) => {
      const gone = get().list.filter((t) =>
        id === undefined ? t.state === 'done' || t.state === 'failed' : t.id === id,
      );
      for (const t of gone) {
        if (t.state === 'sending') sendings.get(t.id)?.pause();
        if (t.url && t.state !== 'done') stopResumable(t.url);
      }
      void forget(gone.map((t) => t.key));
      set({ list: get().list.filter((t) => !gone.includes(t)) });
      pump();
    },
    recall: async () => {
      if (get().list.length > 0) return;
      const [kept, open] = await Promise.all([
        remembered(),
        api<OpenUpload[]>('GET', '/api/uploads').catch(() => [] as OpenUpload[]),
      ]);
      const byUrl = new Map(open.map((o) => [`/api/uploads/${o.id}`, o]));
      const known = kept.map((r): Transfer => {
        nextId += 1;
        const there = r.url ? byUrl.get(r.url) : undefined;
        if (r.url) byUrl.delete(r.url);
        return {
          id: nextId,
          key: r.key,
          name: r.name,
          folderId: r.folderId,
          below: r.below,
          file: null,
          handle: r.handle,
          sizeBytes: r.sizeBytes,
          lastModified: r.lastModified,
          conflict: r.conflict,
          url: there ? r.url : null,
          begun: Boolean(there),
          sentBytes: there?.offsetBytes ?? 0,
          state: 'needs-file',
          problem: null,
          code: null,
          tries: 0,
        };
      });
      // Begun elsewhere, or in a browser that remembers nothing: the server knows of them.
      const others = [...byUrl].map(([url, o]): Transfer => {
        nextId += 1;
        return {
          id: nextId,
          key: url,
          name: o.name,
          folderId: o.folderId,
          below: [],
          file: null,
          handle: null,
          sizeBytes: o.sizeBytes,
          lastModified: 0,
          conflict: 'refuse',
          url,
          begun: true,
          sentBytes: o.offsetBytes,
          state: 'needs-file',
          problem: null,
          code: null,
          tries: 0,
        };
      });
      if (known.length + others.length > 0 && get().list.length === 0)
        set({ list: [...known, ...others], shown: true });
    },
    rejoin: (files) => {
      let matched = 0;
      const free = [...files];
      const list = get().list.map((t) => {
        if (t.state !== 'needs-file') return t;
        const at = free.findIndex(
          (f) =>
            f.file.name === t.name &&
            f.file.size === t.sizeBytes &&
            (t.lastModified === 0 || f.file.lastModified === t.lastModified),
        );
        if (at === -1) return t;
        const [found] = free.splice(at, 1) as [Collected];
        matched += 1;
        return { ...t, file: found.file, handle: found.handle ?? t.handle, state: 'waiting' as const };
      });
      set({ list });
      pump();
      return matched;
    },
    reopen: async () => {
      for (const t of get().list.filter((k) => k.state === 'needs-file' && k.handle)) {
        const file = await fileOf(t.handle as FileSystemFileHandle);
        if (file && file.size === t.sizeBytes) change(t.id, { file, state: 'waiting' });
      }
      pump();
    },
  };
});

const batchIds = new Map<string, string>();

export function isActive(t: Transfer): boolean {
  return t.state === 'sending' || t.state === 'waiting' || (t.state === 'paused' && t.file !== null);
}

/** Looks at everything before it is sent: what is refused by itself, what is taken, whether there is room for all. */
async function look(
  folderId: string,
  added: Transfer[],
): Promise<{
  refused: Map<number, { code: string; words: string }>;
  taken: Set<number>;
  problem: { code: string; words: string } | null;
}> {
  const found = {
    refused: new Map<number, { code: string; words: string }>(),
    taken: new Set<number>(),
    problem: null as { code: string; words: string } | null,
  };
  const totalBytes = added.reduce((sum, t) => sum + t.sizeBytes, 0);
  try {
    for (let from = 0; from < added.length && !found.problem; from += FILES_CHECKED) {
      const part = added.slice(from, from + FILES_CHECKED);
      const answer = await api<CheckAnswer>('POST', `/api/folders/${folderId}/check-files`, {
        files: part.map((t) => ({ name: t.name, sizeBytes: t.sizeBytes })),
        totalBytes,
      });
      for (const fault of answer.faults) found.refused.set((part[fault.index] as Transfer).id, fault);
      for (const t of answer.taken.map((index) => part[index] as Transfer))
        if (t.below.length === 0) found.taken.add(t.id);
      found.problem = answer.room;
    }
  } catch (error) {
    const problem = error as ApiProblem;
    // The server being away is no refusal: what it would have said is said when the files arrive.
    if (!retryable(problem.status)) found.problem = { code: problem.code, words: problem.message };
  }
  return found;
}

function recordOf(t: Transfer): Remembered {
  return {
    key: t.key,
    folderId: t.folderId,
    below: t.below,
    name: t.name,
    sizeBytes: t.sizeBytes,
    lastModified: t.lastModified,
    conflict: t.conflict,
    url: t.url,
    handle: t.handle,
  };
}

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

/** At most five times a second: a bar that moves more often is not seen to. */
function throttled(tell: (value: number) => void): (value: number) => void {
  let last = 0;
  return (value) => {
    const now = Date.now();
    if (now - last < 200) return;
    last = now;
    tell(value);
  };
}
