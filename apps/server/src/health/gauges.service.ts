import { Inject, Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { AggregatorRegistry, Gauge, Registry, type OpenMetricsContentType } from 'prom-client';
import { DataSource } from 'typeorm';
import { BackupsService } from '../backups/backups.service.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { log } from '../platform/log/log.js';
import { measureProcess } from '../platform/metrics.js';
import { figuresOfAll } from '../platform/processes.js';
import { answering } from '../platform/problems/problem.filter.js';
import { CertificatesService } from '../reach/certificates.service.js';
import { queueSizes } from './health.queries.js';
import { diskOf } from './machine.js';

const DAY = 86_400_000;
let measured = false;

/** What is asked of the office itself when somebody scrapes, beside what the process counts. */
@Injectable()
export class Gauges implements OnApplicationBootstrap, OnApplicationShutdown {
  private server: Server | null = null;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly backups: BackupsService,
    private readonly certificates: CertificatesService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async onApplicationBootstrap(): Promise<void> {
    const { serves, metrics } = this.config;
    if (!serves) return;
    if (!measured) measureProcess();
    measured = true;
    if (!metrics.listen) return;
    const server = createServer(
      answering(async (req, res) => {
        if (req.url !== '/metrics') return void res.writeHead(404).end();
        const { type, text } = await this.told(req.headers.accept);
        res.writeHead(200, { 'Content-Type': type }).end(text);
      }),
    );
    const { host, port } = metrics.listen;
    await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, host, resolve));
    server.on('error', (error) => log.warn({ err: error }, 'the port for metrics had trouble'));
    this.server = server;
  }

  async onApplicationShutdown(): Promise<void> {
    const { server } = this;
    if (!server) return;
    server.closeAllConnections();
    await new Promise<void>((resolve) => server.close(() => resolve()));
  }

  /** Where metrics are served by themselves; null: nowhere. */
  get port(): number | null {
    return this.server ? (this.server.address() as AddressInfo).port : null;
  }

  /** Everything, as OpenMetrics for whoever accepts that, otherwise in Prometheus' older text format. */
  async told(accept = ''): Promise<{ type: string; text: string }> {
    const own = new Registry();
    const gauge = (name: string, help: string, labelNames: string[] = []) =>
      new Gauge({ name, help, labelNames, registers: [own] });
    const jobs = gauge('quay_jobs', 'Jobs that are not done, by queue and state.', ['queue', 'state']);
    const up = gauge('quay_database_up', 'Whether the database answers.');
    const free = gauge('quay_disk_free_bytes', 'Bytes free where the files lie.');
    const size = gauge('quay_disk_size_bytes', 'Bytes of the file system where the files lie.');
    const days = gauge('quay_certificate_days', 'Days that certificates still hold.', ['host']);
    const backup = gauge('quay_backup_age_seconds', 'Age of the newest good backup, by folder.', ['folder']);
    const findings = gauge('quay_backup_findings', 'What is wrong with backups.', ['kind']);
    const disk = await diskOf('The files', this.config.blobRoot);
    if (disk) {
      free.set(disk.freeBytes);
      size.set(disk.sizeBytes);
    }
    try {
      const now = this.clock.now();
      for (const { name, state, count } of await queueSizes(this.db)) jobs.set({ queue: name, state }, count);
      for (const { host, until } of await this.certificates.lasting()) days.set({ host }, (until - now) / DAY);
      const { places, findings: found } = await this.backups.list();
      for (const { folder, goodAt } of places)
        if (goodAt !== null) backup.set({ folder }, (now - Date.parse(goodAt)) / 1000);
      for (const { kind } of found) findings.inc({ kind });
      up.set(1);
    } catch (error) {
      log.warn({ err: error }, 'metrics could not ask the database');
      up.set(0);
    }
    const found = [...(await figuresOfAll()), await own.getMetricsAsJSON()] as Found[];
    return /application\/openmetrics-text/.test(accept) ? asOpenMetrics(found) : asText(found);
  }
}

type Found = Awaited<ReturnType<Registry['getMetricsAsJSON']>>;

async function asText(found: Found[]): Promise<{ type: string; text: string }> {
  const told = AggregatorRegistry.aggregate(found);
  return { type: told.contentType, text: await told.metrics() };
}

/** From a copy: the library renames what counts, and would leave it so. */
async function asOpenMetrics(found: Found[]): Promise<{ type: string; text: string }> {
  const bare = found.map((of) =>
    of.map((m) => (String(m.type) === 'counter' ? { ...m, name: m.name.replace(/_total$/, '') } : m)),
  );
  const told = AggregatorRegistry.aggregate<OpenMetricsContentType>(bare);
  told.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
  return { type: told.contentType, text: await told.metrics() };
}
