import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto';

/** SHA-256 of a secret that is random enough to need no salt (tokens and session keys of 128 bits or more). */
export function secretHash(secret: string): Buffer {
  return createHash('sha256').update(secret).digest();
}

/** Seals a text with AES-256-GCM (NIST SP 800-38D): 12 bytes nonce, 16 bytes tag, ciphertext. */
export function seal(key: Buffer, text: string): Buffer {
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', key, nonce);
  const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
  return Buffer.concat([nonce, cipher.getAuthTag(), body]);
}

/** Opens what {@link seal} made. @throws Error when the key is another or the bytes were altered */
export function unseal(key: Buffer, sealed: Buffer): string {
  const decipher = createDecipheriv('aes-256-gcm', key, sealed.subarray(0, 12));
  decipher.setAuthTag(sealed.subarray(12, 28));
  return Buffer.concat([decipher.update(sealed.subarray(28)), decipher.final()]).toString('utf8');
}
