import { createHash } from 'node:crypto';

/** What an office needs to keep lines to a relay: where it is, who the office is there, and their common secret. */
export interface Invitation {
  host: string;
  port: number;
  office: string;
  /** 32 bytes. */
  secret: Buffer;
}

const MARK = 'relay1';
const CHECK_BYTES = 4;

/** The invitation as one word that can be handed over: its checksum tells what was not copied whole. */
export function invitationText({ host, port, office, secret }: Invitation): string {
  const body = Buffer.from(JSON.stringify([host, port, office, secret.toString('base64url')]));
  return `${MARK}.${Buffer.concat([body, checksum(body)]).toString('base64url')}`;
}

/** Null for what is no invitation, or not whole. */
export function readInvitation(text: string): Invitation | null {
  const match = new RegExp(`^${MARK}\\.([\\w-]{40,600})$`).exec(text.trim());
  if (!match) return null;
  const bytes = Buffer.from(match[1] as string, 'base64url');
  const body = bytes.subarray(0, -CHECK_BYTES);
  if (!checksum(body).equals(bytes.subarray(-CHECK_BYTES))) return null;
  try {
    const [host, port, office, secret] = JSON.parse(body.toString('utf8')) as [string, number, string, string];
    const read = { host, port, office, secret: Buffer.from(secret, 'base64url') };
    return isHost(host) && isPort(port) && isOffice(office) && read.secret.length === 32 ? read : null;
  } catch {
    return null;
  }
}

const checksum = (body: Buffer): Buffer => createHash('sha256').update(body).digest().subarray(0, CHECK_BYTES);

const isHost = (value: unknown): boolean => typeof value === 'string' && /^[a-z0-9.:-]{1,253}$/i.test(value);
const isPort = (value: unknown): boolean => Number.isInteger(value) && Number(value) > 0 && Number(value) < 65_536;
/** How offices are called on the line. */
export const isOffice = (value: unknown): boolean => typeof value === 'string' && /^[a-z0-9-]{1,40}$/.test(value);
/** A name that people type: of at least two labels (RFC 1123 §2.1). */
export const isName = (value: unknown): value is string =>
  typeof value === 'string' &&
  /^(?=.{3,253}$)([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/.test(value);
