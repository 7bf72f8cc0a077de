import { Decrypter, Encrypter, generateX25519Identity, identityToRecipient } from 'age-encryption';
import { createHmac } from 'node:crypto';
import { existsSync } from 'node:fs';
import { readFile, rename, writeFile } from 'node:fs/promises';
import { Readable } from 'node:stream';
import type { ReadableStream } from 'node:stream/web';
import { BackupFault } from './fault.js';

/**
 * How bytes of a backup are written and read: as they are, or encrypted to whoever is named and to the server itself
 * (age-encryption.org/v1, X25519), so that the server can verify and rehearse, and who has only the copy reads nothing.
 */
export interface Sealer {
  /** What names end in. */
  suffix: '' | '.age';
  /** How a blob is called there: by what it holds, or so that this does not tell what it holds. */
  nameOf: (sha256: string) => string;
  /** How many bytes a file of so many takes there. */
  sizeOf: (bytes: number) => number;
  seal: (bytes: Readable) => Promise<Readable>;
}

export const PLAIN: Sealer = {
  suffix: '',
  nameOf: (sha256) => sha256,
  sizeOf: (bytes) => bytes,
  seal: (bytes) => Promise.resolve(bytes),
};

/** Of age-encryption.org/v1: the first line and the last, a stanza for each X25519 recipient, a nonce, a tag each 64 KiB. */
const sealedSize = (bytes: number, recipients: number): number =>
  22 + 98 * recipients + 48 + 16 + bytes + 16 * Math.max(1, Math.ceil(bytes / 65_536));

/**
 * @param own the server's own identity (age)
 * @param key 32 bytes that nobody has who has only the copy: names are made with it
 */
export async function sealerFor(recipients: readonly string[], own: string, key: Buffer): Promise<Sealer> {
  if (recipients.length === 0) return PLAIN;
  const all = [...recipients].sort().concat(await identityToRecipient(own));
  return {
    suffix: '.age',
    // Whom it is for is a part of the name: what was sealed for others cannot be opened by these.
    nameOf: (sha256) =>
      `${createHmac('sha256', key)
        .update(`backup ${all.join(' ')} ${sha256}`)
        .digest('hex')}.age`,
    sizeOf: (bytes) => sealedSize(bytes, all.length),
    seal: async (bytes) => {
      const encrypter = new Encrypter();
      for (const recipient of all) encrypter.addRecipient(recipient);
      return streamOf(await encrypter.encrypt(webStreamOf(bytes)));
    },
  };
}

/** Opens what was sealed, by any of the identities; what is not sealed is as it is. */
export type Opener = (name: string, bytes: Readable) => Promise<Readable>;

export function openerWith(identities: readonly string[]): Opener {
  return async (name, bytes) => {
    if (!name.endsWith('.age')) return bytes;
    const decrypter = new Decrypter();
    for (const identity of identities) decrypter.addIdentity(identity);
    try {
      return streamOf(await decrypter.decrypt(webStreamOf(bytes)));
    } catch (error) {
      bytes.destroy();
      throw new BackupFault(
        'backup.sealed',
        identities.length === 0
          ? 'it is encrypted. Give the key with --identity FILE.'
          : `it is encrypted for somebody else, or damaged (${(error as Error).message}).`,
      );
    }
  };
}

/** The identities of a file as age-keygen writes it. @throws BackupFault backup.no-identity */
export async function identitiesOf(path: string): Promise<string[]> {
  const text = await readFile(path, 'utf8').catch((error: Error) => {
    throw new BackupFault('backup.no-identity', `${path} cannot be read (${error.message}).`);
  });
  const found = text.split(/\s+/).filter((word) => /^AGE-SECRET-KEY-1[0-9A-Z]+$/.test(word));
  if (found.length === 0)
    throw new BackupFault('backup.no-identity', `${path} holds no key that begins with AGE-SECRET-KEY-1.`);
  return found;
}

/** The server's own identity, made when there is none yet; readable by its owner alone. */
export async function ownIdentity(path: string): Promise<string> {
  if (!existsSync(path)) {
    await writeFile(`${path}.making`, `${await generateX25519Identity()}\n`, { mode: 0o600 });
    await rename(`${path}.making`, path);
  }
  return (await identitiesOf(path))[0] as string;
}

const webStreamOf = (bytes: Readable) => Readable.toWeb(bytes) as globalThis.ReadableStream<Uint8Array>;
const streamOf = (bytes: globalThis.ReadableStream<Uint8Array>) => Readable.fromWeb(bytes as ReadableStream);

/** What a recipient that somebody typed lacks; null: it is one. */
export function recipientFault(recipient: string): string | null {
  try {
    new Encrypter().addRecipient(recipient);
    return null;
  } catch (error) {
    return (error as Error).message;
  }
}
