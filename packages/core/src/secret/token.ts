const BASE62 = '0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';

/** Link tokens hold 128 bits, which 22 base62 characters are enough for (62^22 > 2^128). */
export const TOKEN_BYTES = 16;
const TOKEN_LENGTH = 22;
const TOKEN_PATTERN = /^[0-9A-Za-z]{22}$/;

/**
 * A link token of 22 base62 characters.
 * @param random 16 bytes from a cryptographic generator
 * @throws RangeError for any other number of bytes
 */
export function tokenFromBytes(random: Uint8Array): string {
  if (random.length !== TOKEN_BYTES) throw new RangeError(`a token is made of ${TOKEN_BYTES} bytes`);
  let value = 0n;
  for (const byte of random) value = (value << 8n) | BigInt(byte);
  let text = '';
  for (let i = 0; i < TOKEN_LENGTH; i += 1) {
    text = BASE62[Number(value % 62n)] + text;
    value /= 62n;
  }
  return text;
}

/** Whether a text has the shape of a link token; says nothing about whether it exists. */
export function isToken(text: string): boolean {
  return TOKEN_PATTERN.test(text);
}
