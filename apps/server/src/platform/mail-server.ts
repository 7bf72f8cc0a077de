import type { MailServer, MailTrialAnswer } from '@quay/contract';
import { createTransport, type Transporter } from 'nodemailer';
import type { EntityManager } from 'typeorm';
import type { Config } from './config.js';
import { seal, unseal } from './seal.js';

const TIMEOUT_MS = 20_000;
/** Sooner than mail servers end what is idle. What is being sent then is let end. */
const IDLE_MS = 5_000;
/** A test message is waited for by somebody at a screen. */
const TRIAL_TIMEOUT_MS = 10_000;
const TRIAL_LINES = 200;
const LINE_LENGTH = 500;

/** How the office hands mail in. */
export interface MailWay {
  transport: Transporter;
  sender: string;
}

/** What a transport is made of. */
interface Wanted {
  options: object;
  sender: string;
}

/** What the configuration says comes before what was chosen on the screen. @returns null while there is no mail server */
async function wantedWay(m: EntityManager, config: Config): Promise<Wanted | null> {
  const patience = { connectionTimeout: TIMEOUT_MS, greetingTimeout: TIMEOUT_MS, socketTimeout: TIMEOUT_MS };
  if (config.smtpUrl) return { options: { url: config.smtpUrl, ...patience }, sender: config.mailFrom };
  const server = await loadMailServer(m, config.sealingKey);
  return server && { options: optionsOf(server, TIMEOUT_MS), sender: server.sender };
}

/** A way for one look or one message. */
export async function mailWayOf(m: EntityManager, config: Config): Promise<MailWay | null> {
  const wanted = await wantedWay(m, config);
  return wanted && { transport: createTransport(wanted.options as object), sender: wanted.sender };
}

/**
 * The way to the mail server as it is named at the moment. Its connections are used for one message after another, and
 * end when nothing was sent for a while.
 */
export class MailWays {
  private open: { made: string; way: MailWay } | null = null;
  private ending: NodeJS.Timeout | null = null;

  /** @param most connections side by side */
  constructor(
    private readonly m: EntityManager,
    private readonly config: Config,
    private readonly most: number,
  ) {}

  /** @returns null while there is no mail server */
  async way(): Promise<MailWay | null> {
    const wanted = await wantedWay(this.m, this.config);
    if (!wanted) return null;
    const made = JSON.stringify(wanted);
    if (this.open?.made !== made) {
      this.close();
      // What broke off is told, not begun again unseen: it may have arrived.
      const how = { pool: true, maxConnections: this.most, maxRequeues: 0 };
      const transport = createTransport({ ...wanted.options, ...how } as object);
      this.open = { made, way: { transport, sender: wanted.sender } };
    }
    if (this.ending) clearTimeout(this.ending);
    this.ending = setTimeout(() => this.close(), IDLE_MS).unref();
    return this.open.way;
  }

  close(): void {
    if (this.ending) clearTimeout(this.ending);
    this.ending = null;
    // What is being sent is let end.
    this.open?.way.transport.close();
    this.open = null;
  }
}

/** Whether there is anybody to hand mail to. */
export async function hasMailWay(m: EntityManager, config: Config): Promise<boolean> {
  return Boolean(config.smtpUrl) || (await m.query<unknown[]>('SELECT 1 FROM mail_server')).length > 0;
}

export async function loadMailServer(m: EntityManager, key: Buffer): Promise<MailServer | null> {
  const [row] = await m.query<(MailServer & { sealed: Buffer | null })[]>(
    'SELECT host, port, encryption, user_name AS user, password_sealed AS sealed, sender FROM mail_server',
  );
  if (!row) return null;
  const { sealed, ...server } = row;
  return { ...server, ...(sealed && { password: unseal(key, sealed) }) };
}

export async function keepMailServer(tx: EntityManager, key: Buffer, server: MailServer, at: Date): Promise<void> {
  const { host, port, encryption, user, password, sender } = server;
  await tx.query(
    `INSERT INTO mail_server (host, port, encryption, user_name, password_sealed, sender, changed_at)
     VALUES ($1, $2, $3, $4, $5, $6, $7)
     ON CONFLICT (id) DO UPDATE SET host = $1, port = $2, encryption = $3, user_name = $4, password_sealed = $5,
       sender = $6, changed_at = $7`,
    [host, port, encryption, user, password ? seal(key, password) : null, sender, at],
  );
}

/** @returns whether there was one */
export async function forgetMailServer(tx: EntityManager): Promise<boolean> {
  const [, removed] = (await tx.query('DELETE FROM mail_server')) as [unknown, number];
  return removed > 0;
}

function optionsOf({ host, port, encryption, user, password }: MailServer, timeoutMs: number) {
  return {
    host,
    port,
    secure: encryption === 'tls',
    requireTLS: encryption === 'starttls',
    ignoreTLS: encryption === 'none',
    ...(user !== '' && { auth: { user, pass: password ?? '' } }),
    connectionTimeout: timeoutMs,
    greetingTimeout: timeoutMs,
    socketTimeout: timeoutMs,
  };
}

/**
 * Sends a real message and tells what the servers said to each other.
 * @returns also when it was refused: then with what to do about it
 */
export async function tryMail(server: MailServer, to: string, office: string): Promise<MailTrialAnswer> {
  const lines: MailTrialAnswer['lines'] = [];
  const note = (entry: { tnx?: string }, text: unknown, ...more: unknown[]) => {
    // The library's own remarks are no part of the talk, nor is the message itself.
    const from = entry.tnx === 'client' ? 'us' : entry.tnx === 'server' ? 'server' : null;
    if (!from || lines.length >= TRIAL_LINES) return;
    for (const line of withValues(String(text), more).split(/\r?\n/).filter(Boolean))
      lines.push({ from, text: line.replace(/^[CS]: /, '').slice(0, LINE_LENGTH) });
  };
  const logger = Object.fromEntries(['trace', 'debug', 'info', 'warn', 'error', 'fatal'].map((level) => [level, note]));
  const transport = createTransport({
    ...optionsOf(server, TRIAL_TIMEOUT_MS),
    logger: { level: () => undefined, ...logger } as never,
    debug: true,
  });
  try {
    await transport.sendMail({
      from: { name: office, address: server.sender },
      to,
      subject: 'A test message of Lockfast Quay',
      text: `This is the test message that was asked for when ${office} was set up.\nMail from Lockfast Quay arrives here.\n`,
    });
    return { sent: true, words: `The mail server has taken a message to ${to}. See whether it arrives.`, lines };
  } catch (error) {
    const { message } = error as Error;
    return { sent: false, words: mailFaultWords(error as MailFault, server), lines: withFault(lines, message) };
  } finally {
    transport.close();
  }
}

/** The library writes its lines as console.log does: the values stand behind. */
const withValues = (text: string, values: unknown[]): string =>
  values.reduce<string>((said, value) => said.replace(/%[sdj]/, String(value)), text);

const withFault = (lines: MailTrialAnswer['lines'], message: string): MailTrialAnswer['lines'] =>
  lines.at(-1)?.text.includes(message) ? lines : [...lines, { from: 'note', text: message.slice(0, LINE_LENGTH) }];

type MailFault = Error & { code?: string; responseCode?: number; response?: string };

/** What stands in the way, and what to try: for each way in which a mail server fails. */
export function mailFaultWords(error: MailFault, { host, port, encryption }: MailServer): string {
  const { code = '', responseCode, response, message } = error;
  const at = `${host}, port ${port}`;
  if (/ENOTFOUND|EDNS|EAI_AGAIN/.test(`${code} ${message}`))
    return `There is no machine called ${host}. Look at the name.`;
  if (/ECONNREFUSED/.test(`${code} ${message}`))
    return `Nothing takes mail at ${at}. Other ports are 587 (STARTTLS), 465 (TLS) and 25.`;
  if (/EHOSTUNREACH|ENETUNREACH/.test(message)) return `There is no way to ${host} from here.`;
  if (/certificate|CERT|self[- ]signed|altname/i.test(`${code} ${message}`))
    return `The certificate of ${host} is not trusted: ${message}. Use the name that is on it, or have it mended.`;
  if (/wrong version number|packet length|EPROTO/i.test(message))
    return encryption === 'tls'
      ? `${at} does not encrypt from the first byte. Choose STARTTLS.`
      : `${at} encrypts in another way. Choose TLS.`;
  if (code === 'ETLS' || /STARTTLS/i.test(message))
    return `${at} does not offer STARTTLS. Choose TLS with port 465, or ask whoever runs it.`;
  if (code === 'ETIMEDOUT' || /timeout/i.test(message))
    return encryption === 'tls'
      ? `${at} does not answer. It may expect STARTTLS, or a firewall drops what is sent there.`
      : `${at} does not answer. It may expect TLS from the first byte, or a firewall drops what is sent there.`;
  if (responseCode === 530 || /must issue a STARTTLS|encryption (is )?(needed|required)/i.test(response ?? ''))
    return `${host} wants encryption or somebody to sign in first: ${response ?? message}`;
  if (code === 'EAUTH') return `${host} does not accept that name and password: ${response ?? message}`;
  if (response) return `${host} refused: ${response}`;
  return `Mail could not be handed in: ${message}`;
}
