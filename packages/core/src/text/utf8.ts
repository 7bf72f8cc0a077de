const encoder = new TextEncoder();

/** The UTF-8 bytes of a text (RFC 3629). Lone surrogates become U+FFFD. */
export function utf8Bytes(text: string): Uint8Array<ArrayBuffer> {
  return encoder.encode(text);
}
