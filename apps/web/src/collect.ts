import { fromEvent } from 'file-selector';

/** A file from the desktop: the folders it came in, and a handle where the browser gives one. */
export interface Collected {
  file: File;
  below: string[];
  handle: FileSystemFileHandle | null;
}

type HandleItem = DataTransferItem & { getAsFileSystemHandle?: () => Promise<FileSystemHandle | null> };

/**
 * What was dropped or chosen, with whole folder trees. Handles are taken where there are any: they survive a reload.
 */
export async function collect(event: Event | DragEvent): Promise<Collected[]> {
  const items = [...((event as DragEvent).dataTransfer?.items ?? [])].filter((i) => i.kind === 'file') as HandleItem[];
  if (event.type === 'drop' && items.length > 0 && items.every((i) => i.getAsFileSystemHandle)) {
    // Asked for all at once: the list is empty when the event is over.
    const handles = await Promise.all(items.map((i) => i.getAsFileSystemHandle?.()));
    const found: Collected[] = [];
    for (const handle of handles) if (handle) await walk(handle, [], found);
    return found;
  }
  const files = (await fromEvent(event)) as (File & { path?: string; relativePath?: string })[];
  return files
    .filter((f): f is File & { path?: string } => f instanceof File)
    .map((file) => ({ file, below: foldersOf(file), handle: null }));
}

async function walk(handle: FileSystemHandle, below: string[], found: Collected[]): Promise<void> {
  if (handle.kind === 'file') {
    const file = await (handle as FileSystemFileHandle).getFile().catch(() => null);
    if (file) found.push({ file, below, handle: handle as FileSystemFileHandle });
    return;
  }
  const entries = (handle as FileSystemDirectoryHandle & { values: () => AsyncIterable<FileSystemHandle> }).values();
  for await (const entry of entries) await walk(entry, [...below, handle.name], found);
}

/** The folders that a file came in, from the outermost; none for a single file. */
export function foldersOf(file: File & { path?: string; relativePath?: string }): string[] {
  const path = file.webkitRelativePath || file.relativePath || file.path || file.name;
  return path
    .split('/')
    .filter((part) => part !== '' && part !== '.')
    .slice(0, -1);
}
