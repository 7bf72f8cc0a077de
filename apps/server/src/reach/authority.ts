import type { Client } from 'acme-client';
import { Agent } from 'node:https';
import { rootCertificates } from 'node:tls';

/** How an authority is asked again that is out of order (RFC 8555 §6.6): so often, so long apart at most. */
const AGAIN = { times: 3, mostMs: 20_000 } as const;
const ANSWER_MS = 20_000;
/** A strict authority may refuse most nonces that it gave (RFC 8555 §6.5: the client tries again with the new one). */
const NONCE_TRIES = 60;

export interface Account {
  directory: string;
  /** PEM. */
  key: string;
  /** The account's own address; null before it was made. */
  url: string | null;
  /** Whom the authority knows this office as already (RFC 8555 §7.3.4); the key as base64url. Null: nobody. */
  binding: { id: string; key: string } | null;
}

/** What the authority says of itself (RFC 8555 §7.1.1). */
export interface Directory {
  /** Where it tells when to renew (RFC 9773 §4.1). */
  renewalInfo?: string;
  meta?: { caaIdentities?: string[]; externalAccountRequired?: boolean };
}

/**
 * The library's client, as far as it is reached into: it tries again five times, which is too few, and keeps to itself
 * how long an authority asks to wait.
 */
export interface Inside {
  http: { maxBadNonceRetries: number; getDirectory: () => Promise<Directory> };
  api: {
    apiRequest: <T>(
      url: string,
      payload: object | null,
      valid: number[],
    ) => Promise<{ data: T; headers: Record<string, string | undefined> }>;
  };
}
export const insideOf = (client: Client): Inside => client as unknown as Inside;

/** The clients' common way to authorities, once for each process: its library has one instance. */
let way: Promise<typeof import('acme-client')> | null = null;

/**
 * The client of an authority. Loaded when a certificate is got: a start need not wait for it.
 * @param roots trusted besides the usual ones, as PEM
 */
export async function authorityClient(account: Account, roots: readonly string[]): Promise<Client> {
  way ??= import('acme-client').then(({ default: acme }) => prepared(acme as never, roots));
  const acme = await way;
  const client = new acme.Client({
    directoryUrl: account.directory,
    accountKey: account.key,
    ...(account.url && { accountUrl: account.url }),
    ...(account.binding && { externalAccountBinding: { kid: account.binding.id, hmacKey: account.binding.key } }),
  });
  insideOf(client).http.maxBadNonceRetries = NONCE_TRIES;
  return client;
}

function prepared(acme: typeof import('acme-client'), roots: readonly string[]): typeof import('acme-client') {
  const { axios } = acme;
  axios.defaults.httpsAgent = new Agent({ ca: [...rootCertificates, ...roots] });
  axios.defaults.timeout = ANSWER_MS;
  // In place of the library's own, which has no words for an authority that cannot be reached.
  axios.interceptors.response.clear();
  axios.interceptors.response.use(null, async (error: Failed) => {
    const { response, config } = error;
    if (!response || !config) throw new Error(reasonOf(error), { cause: error });
    const tried = config.tried ?? 0;
    if ((response.status !== 429 && response.status < 500) || tried >= AGAIN.times) return response;
    await new Promise((done) => setTimeout(done, waitMs(response.headers['retry-after'], tried)));
    return axios.request({ ...config, tried: tried + 1 } as never);
  });
  return acme;
}

/** What the library's way to the authority fails with. */
interface Failed extends Error {
  code?: string;
  response?: { status: number; headers: Record<string, string | undefined> };
  config?: { url?: string; tried?: number };
}

/** How long somebody asks to wait (RFC 9110 §10.2.3: seconds, or a date); null: they do not say. */
export function retryAfterMs(header: string | undefined): number | null {
  const asked = /^\d+$/.test(header ?? '') ? Number(header) * 1000 : Date.parse(header ?? '') - Date.now();
  return Number.isFinite(asked) ? Math.max(0, asked) : null;
}

const waitMs = (retryAfter: string | undefined, tried: number): number =>
  Math.min(Math.max(retryAfterMs(retryAfter) ?? 1000 * 2 ** tried, 250), AGAIN.mostMs);

const REASONS: [RegExp, string][] = [
  [/^ECONNREFUSED$/, 'nothing answers there'],
  [/^(ENOTFOUND|EAI_AGAIN)$/, 'its name is not known to the name servers of this machine'],
  [/^(EHOSTUNREACH|ENETUNREACH)$/, 'there is no way to it from here'],
  [/^(ETIMEDOUT|ECONNABORTED|ERR_CANCELED)$/, 'it does not answer'],
  [/^ECONNRESET$/, 'it breaks the connection off'],
  [/^CERT_HAS_EXPIRED$/, 'its own certificate has ended'],
  [/^ERR_TLS_CERT_ALTNAME_INVALID$/, 'its own certificate is for another name'],
  [/SELF_SIGNED|UNABLE_TO|CERT_/, 'its own certificate is not trusted: name its root under "roots"'],
];

function reasonOf({ code = '', message, config }: Failed): string {
  const host = config?.url && URL.canParse(config.url) ? new URL(config.url).host : 'the authority';
  const [, words] = REASONS.find(([pattern]) => pattern.test(code)) ?? [null, message];
  return `${host}: ${words}`;
}

/** Whether an authority says that it does not know the account any more (RFC 8555 §6.7). */
export const isAccountUnknown = (error: unknown): boolean =>
  /accountDoesNotExist|account .*(not found|does not exist)|unable to find account/i.test((error as Error).message);
