import { createHash, randomUUID } from 'node:crypto';
import type { Readable } from 'node:stream';
import { crc32 } from 'node:zlib';
import { Problem } from '../platform/problems/problem.js';
import type {
  AskRoom,
  BlobParts,
  BlobStore,
  OpenBlob,
  StagedBlob,
  StageHow,
  StoredBlob,
  Stretch,
} from '../platform/blobs/blob-store.js';

/**
 * What object storage can do and no more: whole objects by key, ranges of them, copies, listings by prefix. Nothing is
 * appended, renamed or flushed, there is no path, and every object is written at once or not at all.
 */
class ObjectStorage {
  private readonly objects = new Map<string, { bytes: Buffer; at: number }>();

  async put(key: string, bytes: Uint8Array): Promise<void> {
    this.objects.set(key, { bytes: Buffer.from(bytes), at: Date.now() });
  }
  async copy(from: string, to: string): Promise<void> {
    const found = this.objects.get(from);
    if (!found) throw new Error(`no object ${from}`);
    this.objects.set(to, found);
  }
  async range(key: string, from: number, length: number): Promise<Buffer | null> {
    return this.objects.get(key)?.bytes.subarray(from, from + length) ?? null;
  }
  async size(key: string): Promise<number | null> {
    return this.objects.get(key)?.bytes.length ?? null;
  }
  async remove(key: string): Promise<void> {
    this.objects.delete(key);
  }
  async *list(prefix: string): AsyncGenerator<{ key: string; at: number }> {
    for (const [key, { at }] of [...this.objects]) if (key.startsWith(prefix)) yield { key, at };
  }
}

/**
 * A blob store on object storage, in memory: written against the interface and its suite alone, to show that neither
 * supposes a disk. A part of an upload is a row of objects, one for each request that brought something.
 */
export class ObjectBlobStore implements BlobStore {
  private readonly storage = new ObjectStorage();
  readonly parts: BlobParts = new ObjectParts(this.storage);

  async put(stream: Readable, expectedBytes: number | null): Promise<StoredBlob> {
    const blob = await this.stage(stream, expectedBytes);
    await this.adopt([{ blob, overwrite: false }]);
    await blob.discard();
    return { sha256: blob.sha256, sizeBytes: blob.sizeBytes, crc32: blob.crc32 };
  }

  async stage(stream: Readable, expectedBytes: number | null, { ask }: StageHow = {}): Promise<StagedBlob> {
    const { bytes, whole } = await drain(stream, 0, ask);
    if (!whole || (expectedBytes !== null && bytes.length !== expectedBytes))
      throw new Problem('invalid', 'upload.cut', 'The upload ended before all of it had arrived.');
    const held = `staged/${randomUUID()}`;
    await this.storage.put(held, bytes);
    return { ...digests(bytes), held, flushed: true, discard: () => this.storage.remove(held) };
  }

  async stageEach(pieces: readonly Uint8Array[]): Promise<StagedBlob[]> {
    return pieces.map((held) => ({ ...digests(held), held, flushed: false, discard: () => Promise.resolve() }));
  }

  async adopt(staged: readonly { blob: StagedBlob; overwrite: boolean }[]): Promise<void> {
    for (const { blob, overwrite } of staged) {
      const key = keyOf(blob.sha256);
      if (!overwrite && (await this.storage.size(key)) === blob.sizeBytes) continue;
      if (typeof blob.held === 'string') await this.storage.copy(blob.held, key);
      else await this.storage.put(key, blob.held);
    }
  }

  async gather(parts: readonly Stretch[]): Promise<{ bytes: Uint8Array; release: () => void }> {
    const pieces = await Promise.all(
      parts.map(async (part) => {
        if ('bytes' in part) return part.bytes;
        const found = await this.storage.range(keyOf(part.sha256), part.from, part.length);
        if (found?.length !== part.length) throw new Error('a blob is missing, or shorter than it should be');
        return found;
      }),
    );
    return { bytes: Buffer.concat(pieces), release: () => undefined };
  }

  async open(sha256: Buffer): Promise<OpenBlob | null> {
    const key = keyOf(sha256);
    const sizeBytes = await this.storage.size(key);
    if (sizeBytes === null) return null;
    const read: OpenBlob['read'] = async (target, position, length) => {
      const found = (await this.storage.range(key, position, length)) ?? Buffer.alloc(0);
      target.set(found);
      return found.length;
    };
    return { sizeBytes, read, close: () => Promise.resolve() };
  }

  async stat(sha256: Buffer): Promise<{ sizeBytes: number } | null> {
    const sizeBytes = await this.storage.size(keyOf(sha256));
    return sizeBytes === null ? null : { sizeBytes };
  }

  remove(sha256: Buffer): Promise<void> {
    return this.storage.remove(keyOf(sha256));
  }

  async *names(): AsyncGenerator<Buffer> {
    for await (const { key } of this.storage.list('blobs/')) yield Buffer.from(key.slice('blobs/'.length), 'hex');
  }

  async sweep(now: number): Promise<number> {
    let removed = 0;
    for await (const { key, at } of this.storage.list('staged/')) {
      if (now - at < 24 * 3600 * 1000) continue;
      await this.storage.remove(key);
      removed += 1;
    }
    return removed;
  }

  freeBytes(): Promise<number> {
    return Promise.resolve(Number.MAX_SAFE_INTEGER);
  }
}

class ObjectParts implements BlobParts {
  constructor(private readonly storage: ObjectStorage) {}

  async append(
    id: string,
    offset: number,
    stream: Readable,
    sizeBytes: number,
    flushedTo: (offset: number) => Promise<void>,
    ask?: AskRoom,
  ): Promise<number> {
    const before = (await this.whole(id)).subarray(0, offset);
    const { bytes } = await drain(stream, offset, ask);
    const kept = Buffer.concat([before, bytes]);
    if (kept.length > sizeBytes)
      throw new Problem('invalid', 'upload.too-long', 'More bytes came than were announced.');
    await this.remove(id);
    await this.storage.put(`parts/${id}/0`, before);
    await this.storage.put(`parts/${id}/1`, bytes);
    await flushedTo(kept.length);
    return kept.length;
  }

  async length(id: string): Promise<number> {
    return (await this.whole(id)).length;
  }

  async finish(id: string, sizeBytes: number): Promise<StagedBlob> {
    const bytes = await this.whole(id);
    if (bytes.length < sizeBytes)
      throw new Problem('conflict', 'upload.shortened', 'What had arrived of this upload is gone.');
    const held = `staged/${randomUUID()}`;
    await this.storage.put(held, bytes);
    const discard = async () => {
      await this.storage.remove(held);
      await this.remove(id);
    };
    return { ...digests(bytes), held, flushed: true, discard };
  }

  async remove(id: string): Promise<void> {
    for await (const { key } of this.storage.list(`parts/${id}/`)) await this.storage.remove(key);
  }

  async ids(): Promise<string[]> {
    const ids = new Set<string>();
    for await (const { key } of this.storage.list('parts/')) ids.add(key.split('/')[1] as string);
    return [...ids];
  }

  private async whole(id: string): Promise<Buffer> {
    const pieces: Buffer[] = [];
    for await (const { key } of this.storage.list(`parts/${id}/`))
      pieces.push((await this.storage.range(key, 0, Infinity)) as Buffer);
    return Buffer.concat(pieces);
  }
}

const keyOf = (sha256: Buffer): string => `blobs/${sha256.toString('hex')}`;

const digests = (bytes: Uint8Array): StoredBlob => ({
  sha256: createHash('sha256').update(bytes).digest(),
  crc32: crc32(bytes),
  sizeBytes: bytes.length,
});

/** All that comes, until the stream ends or breaks; what `ask` refuses with is thrown. */
async function drain(stream: Readable, from: number, ask?: AskRoom): Promise<{ bytes: Buffer; whole: boolean }> {
  const pieces: Buffer[] = [];
  let position = from;
  const pulled = stream[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
  for (;;) {
    const next = await pulled.next().catch(() => null);
    if (next === null || next.done) return { bytes: Buffer.concat(pieces), whole: next !== null };
    position += next.value.length;
    await ask?.(position, from);
    pieces.push(next.value);
  }
}
