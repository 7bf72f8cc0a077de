import { Injectable } from '@nestjs/common';
import type { RelayLine } from './relay-line.js';

/** The lines to the relay that this process keeps, for whoever must know whether one stands. */
@Injectable()
export class RelayLines {
  private lines: ReadonlyMap<string, RelayLine> = new Map();

  set(lines: ReadonlyMap<string, RelayLine>): void {
    this.lines = lines;
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
