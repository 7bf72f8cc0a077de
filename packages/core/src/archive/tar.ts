import type { Instant } from '../text/when.js';
import { utf8Bytes } from '../text/utf8.js';

const BLOCK = 512;

/**
 * What stands before a file's bytes in a tar archive (POSIX.1-2001, pax interchange format: IEEE Std 1003.1, "pax"): a
 * ustar header, and before it an extended header where the path is longer than 100 bytes or not ASCII.
 * @param path relative, with forward slashes
 * @param modifiedAt whole seconds are kept
 */
export function tarHead(path: string, sizeBytes: number, modifiedAt: Instant): Uint8Array<ArrayBuffer> {
  const name = utf8Bytes(path);
  const plain = name.length <= 100 && name.every((byte) => byte < 128);
  const seconds = Math.max(0, Math.floor(modifiedAt / 1000));
  if (plain) return ustarHeader(name, sizeBytes, seconds, '0');
  const record = paxRecord('path', path);
  const extended = ustarHeader(utf8Bytes('pax'), record.length, seconds, 'x');
  return concat([extended, record, tarPadding(record.length), ustarHeader(utf8Bytes('file'), sizeBytes, seconds, '0')]);
}

/** The zeros that fill a file's last block. */
export function tarPadding(sizeBytes: number): Uint8Array<ArrayBuffer> {
  return new Uint8Array((BLOCK - (sizeBytes % BLOCK)) % BLOCK);
}

/** The two blocks of zeros that end an archive. */
export const TAR_END: Uint8Array<ArrayBuffer> = new Uint8Array(2 * BLOCK);

function ustarHeader(name: Uint8Array, sizeBytes: number, seconds: number, type: '0' | 'x'): Uint8Array<ArrayBuffer> {
  const block = new Uint8Array(BLOCK);
  const put = (at: number, text: string) => block.set(utf8Bytes(text), at);
  block.set(name, 0);
  put(100, '0000644\0');
  put(108, '0000000\0');
  put(116, '0000000\0');
  put(124, `${sizeBytes.toString(8).padStart(11, '0')}\0`);
  put(136, `${seconds.toString(8).padStart(11, '0')}\0`);
  put(148, '        ');
  put(156, type);
  put(257, 'ustar\0');
  put(263, '00');
  // The checksum counts its own field as spaces.
  put(
    148,
    `${block
      .reduce((sum, byte) => sum + byte, 0)
      .toString(8)
      .padStart(6, '0')}\0 `,
  );
  return block;
}

/** "LENGTH KEY=VALUE\n", where the length counts its own digits. */
function paxRecord(key: string, value: string): Uint8Array<ArrayBuffer> {
  const rest = utf8Bytes(` ${key}=${value}\n`).length;
  let length = rest + String(rest).length;
  if (rest + String(length).length !== length) length += 1;
  return utf8Bytes(`${length} ${key}=${value}\n`);
}

function concat(parts: readonly Uint8Array[]): Uint8Array<ArrayBuffer> {
  const whole = new Uint8Array(parts.reduce((sum, p) => sum + p.length, 0));
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}
