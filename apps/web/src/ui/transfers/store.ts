import type { ConflictChoice, OpenUpload } from '@quay/contract';
import { create } from 'zustand';
import { v7 as uuidv7 } from 'uuid';
import { api } from '../api';
import type { Collected } from '../../collect';
import { stopResumable } from './engine';
import { lookAt } from './look';
import { isActive, isWhole, matching, newTransfer, next, type Transfer, type TransferEvent } from './machine';
import { fileOf, forget, remember, remembered, type Remembered } from './remember';
import { Sender, toEach } from './sender';

interface Transfers {
  /** Everything that is on its way, also what waits for a decision about its name. */
  list: Transfer[];
  shown: boolean;
  /** How many bytes had gone out at the last moments. */
  samples: { at: number; bytes: number }[];
}

const EMPTY: Transfers = { list: [], shown: false, samples: [] };
const SAMPLED_MS = 8000;

export const useTransfers = create<Transfers>(() => ({ ...EMPTY }));
const { getState: get, setState: set } = useTransfers;

/** What is being forgotten is not recalled for the next person. */
let dropping = Promise.resolve();

let nextId = 1;
const newId = (): number => (nextId += 1);

const sender = new Sender({
  list: () => get().list,
  tell,
  begun: (t) => void remember([recordOf(t)]),
  ended: (transfers) => void forget(transfers.map((t) => t.key)),
});

function tell(events: ReadonlyMap<number, TransferEvent>): void {
  if (events.size === 0) return;
  const list = get().list.map((t) => {
    const event = events.get(t.id);
    return event ? next(t, event) : t;
  });
  set({ list });
  if ([...events.values()].some((e) => e.type === 'progress' || e.type === 'done')) sample();
}

function sample(): void {
  const at = Date.now();
  const bytes = get().list.reduce((sum, t) => sum + t.sentBytes, 0);
  const before = get().samples.filter((s) => at - s.at < SAMPLED_MS);
  // Many files of a batch are told of at one moment.
  set({ samples: [...before.filter((s) => s.at !== at), { at, bytes }] });
}

const those = (which: (t: Transfer) => boolean): number[] => get().list.flatMap((t) => (which(t) ? [t.id] : []));

export const showTransfers = (shown: boolean): void => set({ shown });

/** Sends files into a folder, after they were looked at. @param aside another place shows how far they are */
export async function addFiles(folderId: string, files: Collected[], { aside = false } = {}): Promise<void> {
  sender.forgetFolders();
  const added = files.map(({ file, below, handle }) => {
    const { name, size: sizeBytes, lastModified } = file;
    const key = uuidv7();
    return newTransfer({ id: newId(), key, name, folderId, below, file, handle, sizeBytes, lastModified });
  });
  const { list, samples } = get();
  const idle = !list.some(isActive);
  const before = list.filter((t) => !idle || t.state !== 'done');
  set({ list: [...before, ...added], shown: get().shown || !aside, samples: idle ? [] : samples });
  const { refused, taken, all } = await lookAt(folderId, added);
  const looked = (id: number) => ({ taken: taken.has(id), fault: all ?? refused.get(id) ?? null });
  tell(new Map(added.map(({ id }) => [id, { type: 'checked', ...looked(id) }])));
  const ids = new Set(added.map((t) => t.id));
  void remember(get().list.flatMap((t) => (ids.has(t.id) && t.state === 'waiting' ? [recordOf(t)] : [])));
  sample();
  sender.pump();
}

/** Answers the question about names that are taken, for every file that waits for it. */
export function decideNames(choice: ConflictChoice | 'skip'): void {
  const asking = get().list.filter((t) => t.state === 'asking');
  if (choice === 'skip') return remove(asking);
  const ids = asking.map((t) => t.id);
  tell(toEach(ids, { type: 'decided', choice }));
  sender.finish(get().list.filter((t) => ids.includes(t.id) && t.state === 'sending' && isWhole(t)));
  sender.pump();
}

/** Pauses one, or all. */
export function pauseTransfers(id?: number): void {
  const paused = get().list.filter((t) => id === undefined || t.id === id);
  const sending = paused.filter((t) => t.state === 'sending');
  const ids = paused.map((t) => t.id);
  tell(toEach(ids, { type: 'pause' }));
  sender.stop(sending);
  sender.pump();
}

/** Goes on with one, also one that failed; or with all that are paused. */
export function resumeTransfers(id?: number): void {
  const ids = those((t) => (id === undefined ? t.state === 'paused' || t.state === 'again' : t.id === id));
  tell(toEach(ids, { type: 'resume' }));
  sender.pump();
}

/** Takes one out, with what has arrived of it; without an id everything that has ended. */
export function clearTransfers(id?: number): void {
  const ended = (t: Transfer) => t.state === 'done' || t.state === 'failed';
  remove(get().list.filter((t) => (id === undefined ? ended(t) : t.id === id)));
  sender.pump();
}

function remove(gone: Transfer[]): void {
  set({ list: get().list.filter((t) => !gone.includes(t)) });
  sender.stop(gone.filter((t) => t.state === 'sending'));
  for (const t of gone) if (t.url && t.state !== 'done') stopResumable(t.url);
  void forget(gone.map((t) => t.key));
}

/** Nothing of these is another person's business: stops everything, and forgets it in this browser. */
export function dropTransfers(): Promise<void> {
  set({ ...EMPTY });
  sender.stopAll();
  dropping = remembered().then((kept) => forget(kept.map((r) => r.key)));
  return dropping;
}

/** What a reload left: what had begun goes on, what needs its file says so. */
export async function recallTransfers(): Promise<void> {
  if (get().list.length > 0) return;
  await dropping;
  const [kept, open] = await Promise.all([
    remembered(),
    api<OpenUpload[]>('GET', '/api/uploads').catch(() => [] as OpenUpload[]),
  ]);
  const byUrl = new Map(open.map((o) => [`/api/uploads/${o.id}`, o]));
  const known = kept.map((r): Transfer => {
    const there = r.url ? byUrl.get(r.url) : undefined;
    if (r.url) byUrl.delete(r.url);
    const arrived = { url: there ? r.url : null, begun: Boolean(there), sentBytes: there?.offsetBytes ?? 0 };
    return newTransfer({ ...r, ...arrived, id: newId(), state: 'needs-file' });
  });
  // Begun elsewhere, or in a browser that remembers nothing: the server knows of them.
  const others = [...byUrl].map(([url, o]): Transfer => {
    const { name, folderId, sizeBytes, offsetBytes: sentBytes } = o;
    const known = { key: url, name, folderId, below: [], sizeBytes, lastModified: 0 };
    return newTransfer({ ...known, id: newId(), url, begun: true, sentBytes, state: 'needs-file' });
  });
  if (known.length + others.length > 0 && get().list.length === 0) set({ list: [...known, ...others], shown: true });
}

/** Files chosen again for those that need theirs. @returns how many were matched */
export function rejoinFiles(files: Collected[]): number {
  const free = [...files];
  const events = new Map<number, TransferEvent>();
  for (const t of get().list.filter((k) => k.state === 'needs-file')) {
    const found = matching(t, free);
    if (!found) continue;
    free.splice(free.indexOf(found), 1);
    events.set(t.id, { type: 'file-there', file: found.file, handle: found.handle });
  }
  tell(events);
  sender.pump();
  return files.length - free.length;
}

/** Asks the browser for the files that it can open again. */
export async function reopenFiles(): Promise<void> {
  for (const t of get().list.filter((k) => k.state === 'needs-file' && k.handle)) {
    const file = await fileOf(t.handle as FileSystemFileHandle);
    if (file && file.size === t.sizeBytes) tell(toEach([t.id], { type: 'file-there', file, handle: t.handle }));
  }
  sender.pump();
}

function recordOf(t: Transfer): Remembered {
  const { key, folderId, below, name, sizeBytes, lastModified, conflict, url, handle } = t;
  return { key, folderId, below, name, sizeBytes, lastModified, conflict, url, handle };
}
