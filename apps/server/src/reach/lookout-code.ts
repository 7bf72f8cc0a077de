import { createHash } from 'node:crypto';

const MARK = 'look1';
const CHECK_BYTES = 4;

/** Where the office is that made a code, and the secret by which it knows whoever took it. */
export interface LookoutCode {
  url: string;
  secret: string;
}

/** As one word that can be handed over: its checksum tells what was not copied whole. */
export function lookoutCodeText({ url, secret }: LookoutCode): string {
  const body = Buffer.from(JSON.stringify([url, secret]));
  return `${MARK}.${Buffer.concat([body, checksum(body)]).toString('base64url')}`;
}

/** Null for what is no code, or not whole. */
export function readLookoutCode(text: string): LookoutCode | null {
  const word = new RegExp(`^${MARK}\\.([\\w-]{40,800})$`).exec(text.trim())?.[1];
  const bytes = Buffer.from(word ?? '', 'base64url');
  const body = bytes.subarray(0, -CHECK_BYTES);
  if (!word || !checksum(body).equals(bytes.subarray(-CHECK_BYTES))) return null;
  try {
    const [url, secret] = JSON.parse(body.toString('utf8')) as unknown[];
    const isSound =
      typeof url === 'string' && isLookoutUrl(url) && typeof secret === 'string' && /^[\w-]{43}$/.test(secret);
    return isSound ? { url, secret } : null;
  } catch {
    return null;
  }
}

/** An address that offices call each other at: encrypted, and nothing but host, port and prefix. */
export const isLookoutUrl = (url: string): boolean =>
  url.length <= 400 && /^https:\/\/[^/?#@\s]+(\/[\w./~-]*)?$/.test(url) && URL.canParse(url);

const checksum = (body: Buffer): Buffer => createHash('sha256').update(body).digest().subarray(0, CHECK_BYTES);
