import { execFileSync } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Machine, Running } from './net.js';
import { OFFICE } from './network.js';
import { HOST } from './services.js';

/** An authority of the laboratory, by OpenSSL: what a strict one would not sign, it signs. */
export class SmallAuthority {
  /** PEM. */
  readonly root: string;
  private readonly folder: string;

  constructor(folder: string) {
    this.folder = join(folder, 'small-authority');
    mkdirSync(this.folder, { recursive: true });
    this.root = readFileSync(this.make('root', { isAuthority: true }).chain, 'utf8');
    this.make('middle', { by: 'root', isAuthority: true });
  }

  /** A certificate with its key; `chain` is the file that a server sends. */
  make(
    name: string,
    how: {
      by?: string;
      isAuthority?: boolean;
      names?: string[];
      /** Days from now; negative ones have passed. */
      days?: [from: number, until: number];
      /** What is sent behind it. */
      behind?: string[];
    },
  ): { chain: string; key: string } {
    const { by = null, isAuthority = false, names = [], days = [-1, 30], behind = [] } = how;
    const at = (file: string) => join(this.folder, file);
    const more = isAuthority
      ? 'basicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign,cRLSign\n'
      : `basicConstraints=CA:FALSE\n${names.length ? `subjectAltName=${names.map((n) => `DNS:${n}`).join(',')}\n` : ''}`;
    writeFileSync(at(`${name}.ext`), more);
    const openssl = (...args: string[]) => execFileSync('openssl', args, { stdio: 'pipe' });
    openssl('ecparam', '-name', 'prime256v1', '-genkey', '-noout', '-out', at(`${name}.key`));
    openssl('req', '-new', '-key', at(`${name}.key`), '-subj', `/O=Laboratory/CN=${name}`, '-out', at(`${name}.csr`));
    // `openssl ca` alone takes both dates.
    writeFileSync(at('index.txt'), '');
    writeFileSync(
      at('ca.cnf'),
      `[ca]\ndefault_ca=own\n[own]\ndatabase=${at('index.txt')}\nnew_certs_dir=${this.folder}\nrand_serial=yes\ndefault_md=sha256\npolicy=any\nunique_subject=no\n[any]\nO=optional\nCN=optional\n`,
    );
    const date = (day: number) => new Date(Date.now() + day * 86_400_000).toISOString().replace(/[-:T]|\.\d+/g, '');
    openssl(
      ...['ca', '-batch', '-config', at('ca.cnf'), '-in', at(`${name}.csr`), '-out', at(`${name}.pem`), '-notext'],
      ...['-extfile', at(`${name}.ext`), '-startdate', date(days[0]), '-enddate', date(days[1])],
      ...(by ? ['-cert', at(`${by}.pem`), '-keyfile', at(`${by}.key`)] : ['-selfsign', '-keyfile', at(`${name}.key`)]),
    );
    const chain = at(`${name}.chain`);
    writeFileSync(chain, [name, ...behind].map((n) => readFileSync(at(`${n}.pem`), 'utf8')).join(''));
    return { chain, key: at(`${name}.key`) };
  }
}

/** What another server of the office does at a port. */
export interface OtherPort {
  port: number;
  /** Null: no encryption. */
  certificate: { chain: string; key: string } | null;
  /** Of nginx, in the place of what answers 200. */
  says?: string;
  /** Beside the certificate. */
  tls?: string;
}

/** Debian's nginx on another machine of the office. */
export function startOther(on: Machine, ports: readonly OtherPort[], address: string = OFFICE.desk): Promise<Running> {
  const servers = ports.map(
    ({ port, certificate, says = "return 200 'another server';", tls = '' }) => `server {
      listen ${address.includes(':') ? `[${address}]` : address}:${port}${certificate ? ' ssl' : ''};
      ${certificate ? `ssl_certificate ${certificate.chain}; ssl_certificate_key ${certificate.key}; ${tls}` : ''}
      location / { ${says} }
    }`,
  );
  const paths = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map((p) => `${p}_temp_path ${on.folder}/${p};`);
  const config = on.file(
    'nginx.conf',
    `daemon off; user root; pid ${on.folder}/nginx.pid; error_log ${on.folder}/nginx.log;
events {}
http { access_log off; ${paths.join(' ')} ${servers.join('\n')} }
`,
  );
  return on.start('nginx', ['-c', config], {
    ready: () => on.must('bash', '-c', `exec 3<>/dev/tcp/${address}/${ports[0]?.port}`),
  });
}

/** The office's own server behind another: what it answers comes through. */
export const PASSED_ON = `proxy_pass https://${OFFICE.server}:8443; proxy_ssl_server_name on; proxy_ssl_name ${HOST}; proxy_set_header Host ${HOST};`;
