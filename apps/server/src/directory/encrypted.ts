import type { DirectoryServer, DirectorySettings } from '@quay/contract';
import { lookup } from 'node:dns/promises';
import { once } from 'node:events';
import { isIP, type Socket } from 'node:net';
import { connect as tlsConnect, rootCertificates, type PeerCertificate, type TLSSocket } from 'node:tls';
import { BerReader } from 'ldapts';
import type { Dialler } from '../platform/dialler.js';
import { connectFault, DirectoryFault, encryptionFault } from './fault.js';

const CONNECT_MS = 5000;
/** The extended request for StartTLS, message 1 (RFC 4511 §4.14.1): nothing of it varies. */
const START_TLS = Buffer.concat([
  Buffer.from([0x30, 0x1d, 0x02, 0x01, 0x01, 0x77, 0x18, 0x80, 0x16]),
  Buffer.from('1.3.6.1.4.1.1466.20037', 'latin1'),
]);
const SEQUENCE = 0x30;
const EXTENDED_RESPONSE = 0x78;
const MOST_ANSWER_BYTES = 4096;

type Encryption = Pick<DirectorySettings, 'encryption' | 'roots'>;

/**
 * A line to a server, encrypted, to the one whose name is on the certificate. Made here and not by the library, so that
 * nothing that came before the encryption is taken for an answer, and a line that breaks is not made again in the clear.
 * @throws DirectoryFault
 */
export async function openEncrypted(
  dialler: Dialler,
  server: DirectoryServer,
  how: Encryption,
  trust: 'checked' | 'shown' = 'checked',
): Promise<TLSSocket> {
  const { host } = server;
  const socket = await dial(dialler, server);
  try {
    if (how.encryption === 'starttls') await startTls(socket, host);
  } catch (error) {
    socket.destroy();
    throw error instanceof DirectoryFault ? error : unencrypted(host, 'it does not answer');
  }
  try {
    return await encrypt(socket, host, how, trust);
  } catch (error) {
    socket.destroy();
    throw encryptionFault(error, host, how.encryption);
  }
}

async function dial(dialler: Dialler, { host, port }: DirectoryServer): Promise<Socket> {
  try {
    const { address } = isIP(host) ? { address: host } : await lookup(host);
    return await dialler.connect(address, port, CONNECT_MS);
  } catch (error) {
    throw connectFault(error, host, port);
  }
}

/** @throws DirectoryFault when the server will not, or says more than that it will (injected before the encryption) */
async function startTls(socket: Socket, host: string): Promise<void> {
  const refused = (why: string) => unencrypted(host, why);
  socket.write(START_TLS);
  let held = Buffer.alloc(0);
  for (;;) {
    const [piece] = (await once(socket, 'data', { signal: AbortSignal.timeout(CONNECT_MS) })) as [Buffer];
    held = Buffer.concat([held, piece]);
    if (held[0] !== SEQUENCE || held.length > MOST_ANSWER_BYTES) throw refused('what it answers is no answer');
    const length = messageLength(held);
    if (length === null || held.length < length) continue;
    if (held.length > length) throw refused('it goes on talking in the clear');
    const code = resultCode(held);
    if (code !== 0) throw refused(code === null ? 'what it answers is no answer' : `it answers with code ${code}`);
    return;
  }
}

const unencrypted = (host: string, why: string): DirectoryFault =>
  new DirectoryFault(
    'certificate',
    `${host} does not begin to encrypt: ${why}.`,
    'Choose LDAPS, or the port for StartTLS (389).',
    true,
  );

/** How long a message is, its head included; null: too little of it is there to know. */
function messageLength(bytes: Buffer): number | null {
  const first = bytes[1];
  if (first === undefined) return null;
  if (first < 0x80) return 2 + first;
  const digits = first & 0x7f;
  return bytes.length < 2 + digits || digits > 4 || digits === 0 ? null : 2 + digits + bytes.readUIntBE(2, digits);
}

function resultCode(bytes: Buffer): number | null {
  const reader = new BerReader(bytes);
  try {
    reader.readSequence();
    if (reader.readInt() !== 1 || reader.readSequence() !== EXTENDED_RESPONSE) return null;
    return reader.readEnumeration();
  } catch {
    return null;
  }
}

async function encrypt(socket: Socket, host: string, how: Encryption, trust: 'checked' | 'shown'): Promise<TLSSocket> {
  const encrypted = tlsConnect({
    socket,
    host,
    ...(!isIP(host) && { servername: host }),
    ...(how.roots !== '' && {
      ca: [...rootCertificates, ...how.roots.split(/(?<=-----END CERTIFICATE-----)/).filter((p) => p.trim())],
    }),
    rejectUnauthorized: trust === 'checked',
  });
  await once(encrypted, 'secureConnect', { signal: AbortSignal.timeout(CONNECT_MS) });
  return encrypted;
}

/** The authority at the end of what a server shows, for somebody who compares its fingerprint. @returns null: none */
export async function shownAuthority(
  dialler: Dialler,
  server: DirectoryServer,
  how: Encryption,
): Promise<{ pem: string; subject: string; fingerprint: string } | null> {
  const line = await openEncrypted(dialler, server, how, 'shown');
  try {
    let top = line.getPeerCertificate(true) as PeerCertificate & { issuerCertificate?: PeerCertificate };
    while (top.issuerCertificate && top.issuerCertificate.fingerprint256 !== top.fingerprint256)
      top = top.issuerCertificate as typeof top;
    // What somebody else vouches for, and does not show, cannot be trusted by itself.
    if (!top.issuerCertificate || !top.raw) return null;
    const lines = top.raw.toString('base64').replace(/.{64}/g, '$&\n').trimEnd();
    return {
      pem: `-----BEGIN CERTIFICATE-----\n${lines}\n-----END CERTIFICATE-----\n`,
      subject: String(top.subject.CN ?? top.subject.O ?? ''),
      fingerprint: top.fingerprint256,
    };
  } finally {
    line.destroy();
  }
}
