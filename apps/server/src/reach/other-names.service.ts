import { Inject, Injectable } from '@nestjs/common';
import type { NameUpdate } from '@quay/contract';
import { filledIn, saysDone } from '@quay/core';
import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import { DataSource, type EntityManager } from 'typeorm';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { seal, unseal } from '../platform/seal.js';
import type { RecordChange } from './protocols/dns-update.js';

const ASK_MS = 20_000;
const ANSWER_MOST = 4000;
/** A program may talk to a service elsewhere, which may be slow. */
const HOOK_MS = 60_000;
const run = promisify(execFile);

/** Changes names where no name server takes signed updates: by an address that is asked for, or a program. */
@Injectable()
export class OtherNamesService {
  constructor(
    private readonly db: DataSource,
    private readonly dialler: Dialler,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Without the secret, which is never told. */
  async shown(): Promise<Omit<NameUpdate, 'secret'> | null> {
    const known = await this.known();
    if (!known) return null;
    const { secret: _, ...shown } = known;
    return shown;
  }

  async keep(tx: EntityManager, { name, url, user, secret, words }: NameUpdate): Promise<void> {
    if (!URL.canParse(filledIn(url, { name, user, secret, ipv4: '', ipv6: '' })))
      throw invalidField(
        'url',
        'url.malformed',
        'That is no address that can be asked for: look at its host name and port.',
      );
    await tx.query(
      `INSERT INTO name_update (name, url, account, secret_sealed, words) VALUES ($1, $2, $3, $4, $5)
       ON CONFLICT (one) DO UPDATE SET name = $1, url = $2, account = $3, secret_sealed = $4, words = $5`,
      [name.toLowerCase(), url, user, seal(this.config.sealingKey, secret), words],
    );
  }

  async forget(tx: EntityManager): Promise<void> {
    await tx.query('DELETE FROM name_update');
  }

  /** Whether a record can be changed in one of these ways. */
  async can(name: string, type: RecordChange['type']): Promise<boolean> {
    if (this.config.reach.nameHook) return true;
    return type !== 'TXT' && (await this.known())?.name === name.toLowerCase();
  }

  /** @throws Problem reach.update-refused, with what was answered */
  async update(changes: readonly RecordChange[]): Promise<void> {
    const { nameHook } = this.config.reach;
    if (nameHook) for (const change of changes) await this.byProgram(nameHook, change);
    else await this.byAddress(changes);
  }

  /** Without a shell: NAME, TYPE, VALUE and seconds are words of their own. */
  private async byProgram(program: string, { name, type, value, ttlSeconds }: RecordChange): Promise<void> {
    const args = value === null ? ['remove', name, type] : ['set', name, type, value, String(ttlSeconds)];
    try {
      const env = { PATH: '/usr/local/bin:/usr/bin:/bin', LANG: 'C.UTF-8' };
      await run(program, args, { timeout: HOOK_MS, killSignal: 'SIGKILL', maxBuffer: 100_000, env });
    } catch (error) {
      const { killed, stderr = '', message } = error as Error & { killed?: boolean; stderr?: string };
      const why = killed ? `it was not done within ${HOOK_MS / 1000} seconds` : stderr.trim() || message;
      throw refused(`The program ${program} could not change ${name}: ${why.slice(0, 500)}`);
    }
  }

  private async byAddress(changes: readonly RecordChange[]): Promise<void> {
    const known = await this.known();
    if (!known) throw refused('No way to change the name is known.');
    const valueOf = (type: RecordChange['type']) => changes.find((c) => c.type === type)?.value ?? '';
    const { name, user, secret } = known;
    const url = filledIn(known.url, { name, user, secret, ipv4: valueOf('A'), ipv6: valueOf('AAAA') });
    const { host } = new URL(url);
    let answer: { status: number; text: string };
    try {
      // Some want user and secret as HTTP does it (RFC 7617).
      const headers: Record<string, string> = { 'user-agent': 'Lockfast-Quay' };
      if (user && !known.url.includes('{secret}')) headers['authorization'] = basicOf(user, secret);
      answer = await this.dialler.http('GET', url, headers, null, ASK_MS, ANSWER_MOST);
    } catch (error) {
      throw refused(`${host} did not change ${name}: ${(error as Error).message}.`);
    }
    if (answer.status === 200 && saysDone(answer.text, known.words)) return;
    const said = answer.text.replace(/\s+/g, ' ').trim().slice(0, 200);
    throw refused(`${host} did not change ${name}. It answers with the status ${answer.status}: ${said || 'nothing'}`);
  }

  private async known(): Promise<NameUpdate | null> {
    const [row] = await this.db.query<(Omit<NameUpdate, 'secret'> & { sealed: Buffer })[]>(
      'SELECT name, url, account AS user, words, secret_sealed AS sealed FROM name_update',
    );
    if (!row) return null;
    const { sealed, ...rest } = row;
    return { ...rest, secret: unseal(this.config.sealingKey, sealed) };
  }
}

const basicOf = (user: string, secret: string): string =>
  `Basic ${Buffer.from(`${user}:${secret}`).toString('base64')}`;

const refused = (words: string): Problem => new Problem('conflict', 'reach.update-refused', words);
