import type { ConflictChoice, ProblemBody, UploadAnswer } from '@quay/contract';
import type { DetailedError, Upload } from 'tus-js-client';
import { problemWords, say } from './words';

/** A file that this visitor brings. */
export interface Brought {
  id: number;
  file: File;
  name: string;
  /** The folder that it goes into, and those below that it came in; empty where it `replaces`. */
  folderId: string;
  path: string;
  /** The one file that it replaces, where nothing else of its folder is shared; empty: none. */
  replaces: string;
  sentBytes: number;
  state: 'waiting' | 'sending' | 'here' | 'asks' | 'failed' | 'stopped';
  /** What went wrong, or what is to be decided. */
  words: string;
  /** Where it is sent to, once it has begun. */
  url: string | null;
  /** The version that it replaces, by its checksum; null: none. */
  base: string | null;
}

/** A file with the folders that it came in. */
export interface Dropped {
  file: File;
  below: readonly string[];
}

/** What is replaced: a file of a folder that files can be brought into, or one by itself. */
export type Over = { name: string; sha256: string } & ({ folderId: string } | { replaces: string });

export interface BringActions {
  bring: (files: readonly Dropped[], folderId: string) => void;
  /** Puts a file over one that is there. */
  replace: (file: File, over: Over) => void;
  /** Decides about one whose name is taken. */
  decide: (id: number, conflict: ConflictChoice) => void;
  again: (id: number) => void;
  stop: (id: number) => void;
  /** Takes what has ended off the list. */
  clear: () => void;
}

/** Files that are sent at once. */
const AT_ONCE = 2;
/** Longer in all than the minute after which a server takes more of somebody who has sent many. */
const RETRIES_MS = [0, 1000, 3000, 5000, 10_000, 20_000, 30_000];
const AWAY = say('away.bring');

/**
 * Sends files into the share, each as a resumable upload (tus 1.0). A file that was begun before, also before a reload,
 * goes on from where it was when it is chosen again.
 * @param base everything below the link: /s/TOKEN
 * @param headers what every request says of itself
 */
export class Bringing implements BringActions {
  list: readonly Brought[] = [];
  private readonly running = new Map<number, Upload>();
  private nextId = 1;

  constructor(
    private readonly base: string,
    private readonly changed: () => void,
    private readonly arrived: () => void,
    private readonly headers: () => Record<string, string> = () => ({}),
  ) {}

  bring(files: readonly Dropped[], folderId: string): void {
    for (const { file, below } of files)
      this.add({ file, name: file.name, folderId, path: below.join('/'), replaces: '', base: null });
  }

  replace(file: File, { name, sha256, ...where }: Over): void {
    this.add({ ...{ file, name, folderId: '', path: '', replaces: '', base: sha256 }, ...where });
  }

  decide(id: number, conflict: ConflictChoice): void {
    const item = this.find(id);
    if (!item?.url) return;
    this.set(id, { state: 'sending', words: '' });
    this.finish(item.id, item.url, conflict).catch(() => this.failed(id, AWAY));
  }

  again(id: number): void {
    this.set(id, { state: 'waiting', words: '' });
    this.next();
  }

  stop(id: number): void {
    const item = this.find(id);
    const upload = this.running.get(id);
    this.running.delete(id);
    // Should it not arrive, what came goes by its age.
    if (upload) void upload.abort(true).catch(() => undefined);
    else if (item?.url)
      void fetch(item.url, { method: 'DELETE', headers: { 'Tus-Resumable': '1.0.0', ...this.headers() } }).catch(
        () => undefined,
      );
    this.set(id, { state: 'stopped', words: '' });
    this.next();
  }

  clear(): void {
    this.list = this.list.filter((item) => item.state !== 'here' && item.state !== 'stopped');
    this.changed();
  }

  /** Whether leaving the page would break something off. */
  get isBusy(): boolean {
    return this.list.some((item) => item.state === 'sending' || item.state === 'waiting');
  }

  private add(item: Pick<Brought, 'file' | 'name' | 'folderId' | 'path' | 'replaces' | 'base'>): void {
    const begun = { sentBytes: 0, state: 'waiting', words: '', url: null } as const;
    this.list = [...this.list, { ...item, ...begun, id: this.nextId }];
    this.nextId += 1;
    this.changed();
    this.next();
  }

  private next(): void {
    for (const item of this.list) {
      if (this.list.filter((i) => i.state === 'sending').length >= AT_ONCE) return;
      if (item.state !== 'waiting') continue;
      this.set(item.id, { state: 'sending' });
      this.send(item).catch(() => this.failed(item.id, AWAY));
    }
  }

  private async send(item: Brought): Promise<void> {
    const { id, file } = item;
    const metadata = metadataOf(item);
    // Only those who bring something fetch what brings it.
    const tus = await import('tus-js-client').catch(() => null);
    if (!tus) return this.failed(id, AWAY);
    const upload = new tus.Upload(file, {
      endpoint: `${this.base}/uploads`,
      headers: this.headers(),
      retryDelays: RETRIES_MS,
      metadata,
      removeFingerprintOnSuccess: true,
      onUploadUrlAvailable: () => this.set(id, { url: upload.url }),
      onProgress: (sentBytes) => this.set(id, { sentBytes }),
      onShouldRetry: (error) => isAway(problemOf(error)),
      onError: (error) => this.refused(id, problemOf(error)),
      onSuccess: () => this.here(id),
    });
    const before = (await upload.findPreviousUploads()).find((sent) =>
      SAME.every((key) => sent.metadata[key] === metadata[key]),
    );
    if (before) upload.resumeFromPreviousUpload(before);
    if (this.find(id)?.state !== 'sending') return;
    this.running.set(id, upload);
    upload.start();
  }

  private async finish(id: number, url: string, conflict: ConflictChoice): Promise<void> {
    const response = await fetch(`${url}/finish`, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify({ conflict }),
    }).catch(() => null);
    const body = (await response?.json().catch(() => null)) as (UploadAnswer & Partial<ProblemBody>) | null;
    if (response?.ok) this.here(id);
    else this.refused(id, body ?? {});
  }

  private here(id: number): void {
    this.running.delete(id);
    this.set(id, { state: 'here', words: '', sentBytes: this.find(id)?.file.size ?? 0 });
    this.arrived();
    this.next();
  }

  private refused(id: number, problem: Partial<ProblemBody>): void {
    const decides = problem.code === 'name.taken' || problem.code === 'file.newer';
    if (!decides || !this.find(id)?.url) return this.failed(id, problem.detail ?? AWAY);
    this.running.delete(id);
    this.set(id, { state: 'asks', words: problemWords(problem) });
    this.next();
  }

  private failed(id: number, words: string): void {
    this.running.delete(id);
    this.set(id, { state: 'failed', words });
    this.next();
  }

  private find(id: number): Brought | undefined {
    return this.list.find((item) => item.id === id);
  }

  private set(id: number, part: Partial<Brought>): void {
    this.list = this.list.map((item) => (item.id === id && item.state !== 'stopped' ? { ...item, ...part } : item));
    this.changed();
  }
}

/** What an upload that goes on must have in common with one that was begun. */
const SAME = ['folderId', 'path', 'replaces', 'name', 'base'];

const metadataOf = ({ file, name, folderId, path, replaces, base }: Brought): Record<string, string> => ({
  ...{ name, modifiedAt: String(file.lastModified) },
  ...(replaces ? { replaces } : { folderId }),
  ...(path && { path }),
  ...(base === null ? { conflict: 'refuse' } : { conflict: 'version', base }),
});

/** Whether trying again by itself makes sense: the server is away or busy, not: it said no. */
const isAway = ({ status, code }: Partial<ProblemBody>): boolean =>
  code === 'tries.too-many' ||
  (code !== 'name.taken' && code !== 'file.newer' && [undefined, 409, 423, 502, 503, 504].includes(status));

function problemOf(error: Error | DetailedError): Partial<ProblemBody> {
  const response = 'originalResponse' in error ? error.originalResponse : null;
  if (!response) return {};
  try {
    return { status: response.getStatus(), ...(JSON.parse(response.getBody()) as Partial<ProblemBody>) };
  } catch {
    return { status: response.getStatus() };
  }
}
