import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { vi } from 'vitest';
import { freePort } from './free-port.js';

export const SLAPD_BASE = 'dc=saltmarsh,dc=example';
export const SLAPD_ROOT = { dn: `cn=quay,${SLAPD_BASE}`, password: 'oar-lantern-42' };

/** Debian's directory server (slapd), with LDAPS, StartTLS and memberOf; nothing is said in the clear. */
export interface Slapd {
  /** For LDAPS, and for StartTLS. */
  ports: { ldaps: number; starttls: number };
  /** The authority of its certificate, which is for "localhost". */
  authority: string;
  /** Adds or changes entries, as LDIF (RFC 2849). */
  change: (ldif: string) => void;
  stop: () => Promise<void>;
  start: () => Promise<void>;
}

const CONF = (folder: string): string => `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
pidfile ${folder}/slapd.pid
TLSCACertificateFile ${folder}/ca.pem
TLSCertificateFile ${folder}/cert.pem
TLSCertificateKeyFile ${folder}/key.pem
security ssf=128
sizelimit 500
database mdb
maxsize 268435456
suffix "${SLAPD_BASE}"
rootdn "${SLAPD_ROOT.dn}"
rootpw ${SLAPD_ROOT.password}
directory ${folder}/data
index objectClass,entryUUID,uid eq
overlay memberof
`;

/** Starts it in a folder of its own. */
export async function startSlapd(folder: string): Promise<Slapd> {
  const ports = { ldaps: await freePort(), starttls: await freePort() };
  const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: folder, stdio: 'ignore' });
  openssl(...'req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=Saltmarsh -keyout ca.key -out ca.pem'.split(' '));
  openssl(...'req -newkey rsa:2048 -nodes -subj /CN=localhost -keyout key.pem -out request.pem'.split(' '));
  writeFileSync(join(folder, 'names'), 'subjectAltName=DNS:localhost\n');
  openssl(...'x509 -req -in request.pem -CA ca.pem -CAkey ca.key -days 2 -extfile names -out cert.pem'.split(' '));
  mkdirSync(join(folder, 'data'));
  writeFileSync(join(folder, 'slapd.conf'), CONF(folder));
  // Its own tools take the machine's name for that of "localhost".
  const env = { ...process.env, LDAPTLS_REQCERT: 'never' };
  const url = `ldaps://localhost:${ports.ldaps}`;
  const authenticated = ['-x', '-H', url, '-D', SLAPD_ROOT.dn, '-w', SLAPD_ROOT.password];
  let server: ReturnType<typeof spawn> | null = null;
  const slapd: Slapd = {
    ports,
    authority: readFileSync(join(folder, 'ca.pem'), 'utf8'),
    change: (ldif) => {
      execFileSync('ldapmodify', ['-a', ...authenticated], { input: ldif, env, stdio: ['pipe', 'ignore', 'pipe'] });
    },
    start: async () => {
      const at = `${url} ldap://localhost:${ports.starttls}`;
      server = spawn('/usr/sbin/slapd', ['-d', '0', '-f', join(folder, 'slapd.conf'), '-h', at], { stdio: 'ignore' });
      await vi.waitFor(() => execFileSync('ldapwhoami', authenticated, { env, stdio: 'ignore' }), {
        timeout: 60_000,
        interval: 100,
      });
    },
    stop: async () => {
      const ended = new Promise((resolve) => server?.once('exit', resolve));
      server?.kill('SIGTERM');
      await ended;
    },
  };
  await slapd.start();
  slapd.change(`dn: ${SLAPD_BASE}
objectClass: dcObject
objectClass: organization
o: Saltmarsh Survey Partnership
dc: saltmarsh
`);
  return slapd;
}

/** An organisational unit below the base. */
export const branchLdif = (name: string): string => `dn: ou=${name},${SLAPD_BASE}
objectClass: organizationalUnit
ou: ${name}

`;

/** Somebody; the password is their name and "-weir-oar". */
export const personLdif = (uid: string, name: string, under: string, more = ''): string => `dn: uid=${uid},${under}
objectClass: inetOrgPerson
uid: ${uid}
cn: ${name}
sn: ${name.split(' ').at(-1)}
mail: ${uid}@saltmarsh.example
userPassword: ${uid}-weir-oar
${more}
`;
