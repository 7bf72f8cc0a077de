import type { ConflictChoice } from '@quay/contract';

/** What is remembered of a file that has not been sent, so that a reload loses nothing. */
export interface Remembered {
  key: string;
  folderId: string;
  below: string[];
  name: string;
  sizeBytes: number;
  lastModified: number;
  conflict: ConflictChoice;
  /** Where the upload goes on, when it has begun. */
  url: string | null;
  /** Where the browser gives one: the file itself, which can be opened again without asking for it. */
  handle: FileSystemFileHandle | null;
}

const NAME = 'quay-transfers';
const STORE = 'files';

function open(): Promise<IDBDatabase> {
  return new Promise((resolve, reject) => {
    const request = indexedDB.open(NAME, 1);
    request.onupgradeneeded = () => request.result.createObjectStore(STORE, { keyPath: 'key' });
    request.onsuccess = () => resolve(request.result);
    request.onerror = () => reject(request.error ?? new Error('no database'));
  });
}

async function run(mode: IDBTransactionMode, work: (store: IDBObjectStore) => void): Promise<void> {
  // A browser that keeps nothing (a private window) still sends; only a reload then asks for the files again.
  const database = await open().catch(() => null);
  if (!database) return;
  await new Promise<void>((resolve) => {
    const transaction = database.transaction(STORE, mode);
    transaction.oncomplete = () => resolve();
    transaction.onerror = () => resolve();
    transaction.onabort = () => resolve();
    work(transaction.objectStore(STORE));
  });
  database.close();
}

export function remember(files: Remembered[]): Promise<void> {
  return run('readwrite', (store) => {
    for (const file of files) store.put(file);
  });
}

export function forget(keys: string[]): Promise<void> {
  return run('readwrite', (store) => {
    for (const key of keys) store.delete(key);
  });
}

export async function remembered(): Promise<Remembered[]> {
  let found: Remembered[] = [];
  await run('readonly', (store) => {
    const request = store.getAll() as IDBRequest<Remembered[]>;
    request.onsuccess = () => (found = request.result);
  });
  return found;
}

/** The file behind a handle, if the person allows it; null otherwise. */
export async function fileOf(handle: FileSystemFileHandle): Promise<File | null> {
  const asking = handle as FileSystemFileHandle & {
    queryPermission?: (o: object) => Promise<string>;
    requestPermission?: (o: object) => Promise<string>;
  };
  try {
    if (
      (await asking.queryPermission?.({ mode: 'read' })) !== 'granted' &&
      (await asking.requestPermission?.({ mode: 'read' })) !== 'granted'
    )
      return null;
    return await handle.getFile();
  } catch {
    return null;
  }
}
