import { webcrypto } from 'node:crypto';
import 'reflect-metadata';
import * as x509 from '@peculiar/x509';

// Node.js's web cryptography under the browser's name for its type.
const crypto = webcrypto as never;
x509.cryptoProvider.set(crypto);

/** RFC 5280 §4.2.1.6. */
const SUBJECT_ALTERNATIVE_NAME = '2.5.29.17';
const SIGNING = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' } as const;

/** The authority's own keys and certificates: a root, and what signs below it. */
export class Issuer {
  private constructor(
    readonly root: x509.X509Certificate,
    private readonly intermediate: x509.X509Certificate,
    private readonly key: webcrypto.CryptoKey,
  ) {}

  static async create(now: Date): Promise<Issuer> {
    const years = (n: number) => new Date(now.getTime() + n * 365 * 86_400_000);
    const [rootKeys, keys] = (await Promise.all([
      webcrypto.subtle.generateKey(SIGNING, true, ['sign', 'verify']),
      webcrypto.subtle.generateKey(SIGNING, true, ['sign', 'verify']),
    ])) as [webcrypto.CryptoKeyPair, webcrypto.CryptoKeyPair];
    const ca = (length: number | undefined) => [
      new x509.BasicConstraintsExtension(true, length, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign | x509.KeyUsageFlags.cRLSign, true),
    ];
    const root = await x509.X509CertificateGenerator.createSelfSigned({
      serialNumber: '01',
      name: 'CN=Outside World Root',
      notBefore: new Date(now.getTime() - 86_400_000),
      notAfter: years(10),
      keys: rootKeys as never,
      signingAlgorithm: SIGNING,
      extensions: [...ca(undefined), await x509.SubjectKeyIdentifierExtension.create(rootKeys.publicKey as never)],
    });
    const intermediate = await x509.X509CertificateGenerator.create({
      serialNumber: '02',
      subject: 'CN=Outside World Authority 1',
      issuer: root.subject,
      notBefore: new Date(now.getTime() - 86_400_000),
      notAfter: years(5),
      publicKey: keys.publicKey as never,
      signingKey: rootKeys.privateKey as never,
      signingAlgorithm: SIGNING,
      extensions: [
        ...ca(0),
        await x509.SubjectKeyIdentifierExtension.create(keys.publicKey as never),
        await x509.AuthorityKeyIdentifierExtension.create(rootKeys.publicKey as never),
      ],
    });
    return new Issuer(root, intermediate, keys.privateKey);
  }

  get rootPem(): string {
    return this.root.toString('pem');
  }

  /** A certificate for the names of an order, with the key of a request: the chain as PEM, the new one first (RFC 8555 §9.1). */
  async issue(csrDer: Buffer, names: string[], notBefore: Date, notAfter: Date): Promise<string> {
    const csr = new x509.Pkcs10CertificateRequest(Uint8Array.from(csrDer));
    const serial = Buffer.from(webcrypto.getRandomValues(new Uint8Array(16)));
    serial[0] = (serial[0] as number) & 0x7f;
    const made = await x509.X509CertificateGenerator.create({
      serialNumber: serial.toString('hex'),
      subject: `CN=${names[0]}`,
      issuer: this.intermediate.subject,
      notBefore,
      notAfter,
      publicKey: await csr.publicKey.export(crypto),
      signingKey: this.key as never,
      signingAlgorithm: SIGNING,
      extensions: [
        new x509.SubjectAlternativeNameExtension(names.map((value) => ({ type: 'dns' as const, value }))),
        new x509.KeyUsagesExtension(x509.KeyUsageFlags.digitalSignature, true),
        new x509.ExtendedKeyUsageExtension([x509.ExtendedKeyUsage.serverAuth]),
        new x509.BasicConstraintsExtension(false),
        await x509.SubjectKeyIdentifierExtension.create(await csr.publicKey.export(crypto)),
        await x509.AuthorityKeyIdentifierExtension.create(await this.intermediate.publicKey.export(crypto)),
      ],
    });
    return `${made.toString('pem')}\n${this.intermediate.toString('pem')}\n`;
  }
}

/** How a certificate is named to its authority (RFC 9773 §4.1): the authority's key and the serial number. */
export function renewalNameOf(chain: string): string {
  const leaf = new x509.X509Certificate(chain);
  const keyId = leaf.getExtension(x509.AuthorityKeyIdentifierExtension)?.keyId ?? '';
  // Serial numbers here are never negative in DER, see `issue`.
  return [keyId, leaf.serialNumber].map((digits) => Buffer.from(digits, 'hex').toString('base64url')).join('.');
}

/** The names that a request asks for, in small letters; null when it is no sound request, or its signature is wrong. */
export async function namesOfRequest(csrDer: Buffer): Promise<string[] | null> {
  try {
    const csr = new x509.Pkcs10CertificateRequest(Uint8Array.from(csrDer));
    if (!(await csr.verify())) return null;
    const extension = csr.getExtension(SUBJECT_ALTERNATIVE_NAME);
    const alternatives = (extension ? new x509.SubjectAlternativeNameExtension(extension.rawData).names.items : [])
      .filter((n) => n.type === 'dns')
      .map((n) => n.value.toLowerCase());
    const common = csr.subjectName.getField('CN').map((n) => n.toLowerCase());
    return [...new Set([...alternatives, ...common])].sort();
  } catch {
    return null;
  }
}
