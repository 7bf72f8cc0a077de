import { createSecureContext, TLSSocket, type SecureContext } from 'node:tls';
import type { Socket } from 'node:net';

// Lines are encrypted with the secret that both ends know (RFC 5489: with an exchange of keys, so that what was recorded
// stays closed when the secret becomes known): neither end needs a certificate.
const CIPHERS = 'ECDHE-PSK-CHACHA20-POLY1305:ECDHE-PSK-AES256-CBC-SHA384';
const VERSION = 'TLSv1.2';

let context: SecureContext | null = null;
const shared = (): SecureContext =>
  (context ??= createSecureContext({ ciphers: CIPHERS, minVersion: VERSION, maxVersion: VERSION }));

/** The relay's end. @param secretOf of an office; null: there is none such */
export function relayEnd(socket: Socket, secretOf: (office: string) => Buffer | null): TLSSocket & { office?: string } {
  const tls: TLSSocket & { office?: string } = new TLSSocket(socket, {
    isServer: true,
    secureContext: shared(),
    pskCallback: (_socket: TLSSocket, identity: string) => {
      const secret = secretOf(identity);
      // The first counts: nobody becomes somebody else on a line that stands.
      if (secret) tls.office ??= identity;
      return secret;
    },
  } as never);
  tls.disableRenegotiation();
  return tls;
}

/** What an office gives to `tls.connect`. */
export const officeEnd = (office: string, secret: Buffer) =>
  ({
    ciphers: CIPHERS,
    minVersion: VERSION,
    maxVersion: VERSION,
    pskCallback: () => ({ identity: office, psk: secret }),
    // There is no certificate: whoever knows the secret is the relay.
    checkServerIdentity: () => undefined,
  }) as const;
