import ldap from 'ldapjs';
import { ownCertificate } from './certificate.js';
import {
  DIRECTORY_READER,
  given,
  matches,
  officeDirectory,
  PASSWORD_ENDS,
  SPAN,
  type DirectoryFaults,
  type Filter,
  type StandInEntry,
} from './state.js';

/** The library's controls come without types. */
const { PagedResultsControl } = ldap as unknown as {
  PagedResultsControl: new (options: { value: { size: number; cookie: Buffer } }) => object;
};
const PAGED = '1.2.840.113556.1.4.319';

interface Control {
  type: string;
  value: { size: number; cookie: Buffer };
}
interface Request {
  dn: { toString: () => string };
  credentials: string;
  filter: Filter;
  scope: number | string;
  attributes: string[];
  controls: Control[];
  connection: { ldap: { bindDN: { toString: () => string } } };
}
interface Response {
  attributes: string[];
  addControl: (control: object) => void;
  send: (entry: object) => void;
  end: () => void;
}
type Next = (error?: object) => void;

/** A directory (RFC 4511) over TLS, as domain controllers are: pages, spans of values, ids of bytes, accounts disabled. */
export class DirectoryServer {
  faults: DirectoryFaults = { slowMs: 0, onlyFirst: 0, silent: false };
  port = 0;

  private constructor(
    private readonly server: ReturnType<typeof ldap.createServer>,
    readonly certificate: string,
    private readonly entries: (StandInEntry & { key: string })[],
    private readonly span: number,
  ) {}

  static async create(entries = officeDirectory(), span = SPAN): Promise<DirectoryServer> {
    const names = ['directory.saltmarsh.example', 'localhost'];
    const { certificate, key } = await ownCertificate(names, ['192.168.20.15', '127.0.0.1']);
    const keyed = entries.map((entry) => ({ ...entry, key: plain(entry.dn) }));
    const made = new DirectoryServer(ldap.createServer({ certificate, key }), certificate, keyed, span);
    made.serve();
    return made;
  }

  async listen(host: string, port: number): Promise<number> {
    await new Promise<void>((resolve) => this.server.listen(port, host, resolve));
    // The address is told by the server that the library keeps inside.
    this.port = Number(new URL(this.server.url.replace('ldaps:', 'http:')).port) || port;
    return this.port;
  }

  close(): Promise<void> {
    return new Promise((resolve) => this.server.close(() => resolve()));
  }

  private serve(): void {
    const { server } = this;
    const answer = (work: (req: Request, res: Response, next: Next) => void) =>
      ((req: Request, res: Response, next: Next) => {
        if (this.faults.silent) return;
        setTimeout(() => {
          try {
            work(req, res, next);
          } catch {
            next(new ldap.OperationsError());
          }
        }, this.faults.slowMs).unref();
      }) as never;
    server.bind(
      '',
      answer((req, res, next) => this.bind(req, res, next)),
    );
    server.search(
      '',
      answer((req, res, next) => this.search(req, res, next)),
    );
  }

  private bind(req: Request, res: Response, next: Next): void {
    const dn = plain(req.dn.toString());
    // As directories do: without a password anybody is let in, as nobody (RFC 4513 §5.1.2).
    if (req.credentials === '') {
      res.end();
      return next();
    }
    const entry = this.entries.find((e) => e.key === dn);
    const short = entry?.attributes['sAMAccountName']?.[0];
    const right = dn === plain(DIRECTORY_READER.dn) ? DIRECTORY_READER.password : `${String(short)}${PASSWORD_ENDS}`;
    const disabled = entry?.attributes['userAccountControl']?.[0] === '514';
    if (!entry || disabled || req.credentials !== right) return next(new ldap.InvalidCredentialsError());
    res.end();
    // Only then the library keeps who it is.
    next();
  }

  private search(req: Request, res: Response, next: Next): void {
    if (String(req.connection.ldap.bindDN).replace(/^cn=anonymous$/i, '') === '')
      return next(new ldap.InsufficientAccessRightsError());
    const base = plain(req.dn.toString());
    if (base !== '' && !this.entries.some((e) => e.key === base)) return next(new ldap.NoSuchObjectError());
    const found = this.entries.filter((e) => isIn(e.key, base, String(req.scope)) && matches(req.filter, e));
    const paged = req.controls.find((c) => c.type === PAGED);
    const first = paged ? Number(paged.value.cookie.toString() || 0) : 0;
    // RFC 2696 §3: it may give less than was asked for.
    const size = paged && paged.value.size > 0 ? Math.min(paged.value.size, this.span) : found.length;
    const most = this.faults.onlyFirst || Infinity;
    const page = found.slice(first, Math.min(first + size, most));
    for (const entry of page) {
      const attributes = given(entry, req.attributes, this.span);
      res.attributes = Object.keys(attributes).map((name) => name.toLowerCase());
      res.send({ dn: entry.dn, attributes });
    }
    if (first + size > most && found.length > most) return next(new ldap.SizeLimitExceededError());
    const rest = first + size < found.length;
    if (paged)
      res.addControl(
        new PagedResultsControl({ value: { size: 0, cookie: Buffer.from(rest ? String(first + size) : '') } }),
      );
    res.end();
  }
}

/** Names as they are compared here: in one spelling, without regard to case. */
const plain = (dn: string): string => ldap.parseDN(dn).toString().toLowerCase();

function isIn(dn: string, base: string, scope: string): boolean {
  const below = base === '' ? dn : dn.endsWith(`,${base}`) ? dn.slice(0, -base.length - 1) : null;
  if (scope === '0' || scope === 'base') return dn === base;
  if (scope === '1' || scope === 'one') return below !== null && below !== '' && !/(?<!\\),/.test(below);
  return dn === base || below !== null;
}
