import { Inject, Injectable } from '@nestjs/common';
import { judgeHealth, worstMark, type HealthFacts } from '@quay/core';
import type { Health } from '@quay/contract';
import { access, constants } from 'node:fs/promises';
import { DataSource } from 'typeorm';
import { BackupsService } from '../backups/backups.service.js';
import { sourceOf } from '../backups/source.js';
import { DirectoryService } from '../directory/directory.service.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { OwnNetwork } from '../platform/own-network.js';
import { Dialler } from '../platform/dialler.js';
import { mailWayOf } from '../platform/mail-server.js';
import { blobRootOf, Office } from '../platform/office.js';
import { CertificatesService } from '../reach/certificates.service.js';
import { databaseFacts, queueFacts, unsentMail } from './health.queries.js';
import { answersOn, clockKept, diskOf, memory, missingPrograms, openFiles, secretFile } from './machine.js';

const WEEK = 7 * 86_400_000;
const ASKED_MS = 4000;

/** Looks at everything that makes a server fail one day. */
@Injectable()
export class HealthService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly backups: BackupsService,
    private readonly certificates: CertificatesService,
    private readonly dialler: Dialler,
    private readonly network: OwnNetwork,
    private readonly directory: DirectoryService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async look(): Promise<Health> {
    const lines = judgeHealth(await this.facts());
    return { at: this.clock.date().toISOString(), mark: worstMark(lines), lines };
  }

  /** What is in the way of serving now, each in a word; none: ready. */
  async notReady(): Promise<string[]> {
    const tried: [string, Promise<unknown>][] = [
      ['database', this.db.query('SELECT 1')],
      ['files', access(this.config.blobRoot, constants.R_OK | constants.W_OK)],
    ];
    const ended = await Promise.allSettled(tried.map(([, work]) => inTime(work)));
    return tried.flatMap(([name], i) => (ended[i]?.status === 'rejected' ? [name] : []));
  }

  private async facts(): Promise<HealthFacts> {
    const now = this.clock.now();
    const { zone } = await this.office.settings();
    const blobRoot = (await blobRootOf(this.db.manager)) ?? this.config.blobRoot;
    const [disks, clock, kept, database, secrets, certificates, backups, queue, mail, ports, directory] =
      await Promise.all([
        this.disks(blobRoot),
        this.clockOfOthers().catch(() => null),
        clockKept(),
        databaseFacts(this.db, zone, now).catch(() => null),
        this.secrets(),
        this.certificates.lasting(),
        this.backups.findings(),
        queueFacts(this.db).catch(() => null),
        this.mail(now),
        this.ports(),
        this.directory.lastLook(),
      ]);
    const [files, free, missing] = await Promise.all([openFiles(), memory(), missingPrograms()]);
    return {
      ...{ now, zone, node: process.versions.node, disks, clock, clockKept: kept, database, secrets, certificates },
      ...{ backups, queue, mail, ports, directory, files, memory: free, missingPrograms: missing },
    };
  }

  private async disks(blobRoot: string): Promise<HealthFacts['disks']> {
    const [where] = await this.db
      .query<{ folder: string }[]>(`SELECT current_setting('data_directory') AS folder`)
      // Another's cluster does not say it.
      .catch(() => []);
    const found = await Promise.all([
      diskOf('The files', blobRoot),
      where ? diskOf('The database', where.folder) : null,
    ]);
    return found.filter((disk) => disk !== null);
  }

  private async secrets(): Promise<HealthFacts['secrets']> {
    const { keyFile, identityFile } = sourceOf(this.config);
    const found = await Promise.all([secretFile(keyFile), secretFile(identityFile)]);
    // The second is made with the first encrypted backup.
    return found.filter((file, index) => index === 0 || file.mode !== null);
  }

  /** Who issues certificates has a clock that is right, and says what it shows with every answer. */
  private async clockOfOthers(): Promise<HealthFacts['clock']> {
    const { authority } = this.network;
    if (authority === null) return null;
    const { headers } = await this.dialler.http('GET', authority, {}, null, ASKED_MS);
    const theirs = Date.parse(headers.date ?? '');
    if (Number.isNaN(theirs)) return null;
    return { aheadSeconds: (this.clock.now() - theirs) / 1000, of: new URL(authority).hostname };
  }

  private async mail(now: number): Promise<HealthFacts['mail']> {
    const [way, unsent] = await Promise.all([
      mailWayOf(this.db.manager, this.config),
      unsentMail(this.db, new Date(now - WEEK)),
    ]);
    if (!way) return { way: 'none', words: '', unsent };
    try {
      await inTime(way.transport.verify());
      return { way: 'answers', words: 'The mail server answers.', unsent };
    } catch (error) {
      return { way: 'silent', words: `The mail server does not take mail: ${(error as Error).message}.`, unsent };
    } finally {
      way.transport.close();
    }
  }

  private async ports(): Promise<HealthFacts['ports']> {
    const { host, port, reach } = this.config;
    const wanted = [
      { what: 'The server', host, port },
      ...(reach.tls ? [{ what: 'The encrypted door', ...reach.tls }] : []),
      ...(reach.plain ? [{ what: 'The plain door', ...reach.plain }] : []),
    ].filter((at) => at.port !== 0);
    return Promise.all(
      wanted.map(async ({ what, host: at, port: on }) => ({ what, port: on, answers: await answersOn(at, on) })),
    );
  }
}

/** @throws Error when it takes too long for somebody who waits */
async function inTime<T>(work: Promise<T>): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error(`no answer within ${ASKED_MS / 1000} seconds`)), ASKED_MS);
  });
  try {
    return await Promise.race([work, late]);
  } finally {
    clearTimeout(timer);
  }
}
