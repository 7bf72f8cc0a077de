import { Inject, Injectable } from '@nestjs/common';
import type { Socket } from 'node:net';
import { DataSource } from 'typeorm';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { RelayLine } from './relay-line.js';

/** The lines to the relay that this process keeps, one for each address that is reached through it. */
@Injectable()
export class RelayLines {
  private readonly lines = new Map<string, RelayLine>();
  private ended = false;

  constructor(
    private readonly db: DataSource,
    private readonly dialler: Dialler,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /**
   * Keeps a line for each address that there is now, and lets go of the others.
   * @param enter takes in who comes by a line: the name it is kept for, and where the relay saw them
   */
  async keep(enter: (host: string, socket: Socket, from: string) => void): Promise<void> {
    const { relay } = this.config.reach;
    if (!relay) return;
    const rows = await this.db
      .query<{ host: string }[]>(`SELECT DISTINCT lower(host) AS host FROM address WHERE way_in = 'relay'`)
      .catch(() => null);
    if (!rows || this.ended) return;
    const wanted = new Set(rows.map((r) => r.host));
    for (const [host, line] of this.lines) {
      if (wanted.delete(host)) continue;
      line.stop();
      this.lines.delete(host);
    }
    for (const host of wanted)
      this.lines.set(host, new RelayLine(host, relay, this.dialler, (socket, from) => enter(host, socket, from)));
  }

  end(): void {
    this.ended = true;
    for (const line of this.lines.values()) line.stop();
    this.lines.clear();
  }

  /** Waits until the line of a name stands, at most as long as is said. @returns why it does not; null when it does */
  async standing(host: string, waitMs: number): Promise<string | null> {
    for (const until = Date.now() + waitMs; ;) {
      const line = this.lines.get(host);
      if (line && line.trouble === null) return null;
      if (Date.now() >= until) return line?.trouble ?? 'no line is kept';
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  }
}
