import { readFileSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** So many in a second over a while, and a few more at once. */
export class Pace {
  private left: number;
  private at: number;

  constructor(
    private readonly perSecond: number,
    private readonly atOnce: number,
    now: number,
  ) {
    this.left = atOnce;
    this.at = now;
  }

  /** @param now milliseconds @returns false: too many */
  take(now: number): boolean {
    this.left = Math.min(this.atOnce, this.left + ((now - this.at) / 1000) * this.perSecond);
    this.at = now;
    if (this.left < 1) return false;
    this.left -= 1;
    return true;
  }

  /** Whether nothing is owed any more, so that it can be forgotten. */
  isFull(now: number): boolean {
    return this.left + ((now - this.at) / 1000) * this.perSecond >= this.atOnce;
  }
}

/** Connections of one source at the same time, and new ones in a second. */
export interface SourceLimits {
  connections: number;
  perSecond: number;
  /** Sources that are remembered; beyond them nobody new comes in. */
  sources: number;
}

/** Keeps any one source from taking everything. */
export class Sources {
  private readonly known = new Map<string, { open: number; pace: Pace }>();

  constructor(private readonly limits: SourceLimits) {}

  /** @returns false: it has too many, or comes too often */
  enter(source: string, now: number): boolean {
    const key = sourceKey(source);
    let mine = this.known.get(key);
    if (!mine) {
      if (this.known.size >= this.limits.sources) this.forget(now);
      if (this.known.size >= this.limits.sources) return false;
      mine = { open: 0, pace: new Pace(this.limits.perSecond, this.limits.perSecond * 2, now) };
      this.known.set(key, mine);
    }
    if (mine.open >= this.limits.connections || !mine.pace.take(now)) return false;
    mine.open += 1;
    return true;
  }

  leave(source: string): void {
    const mine = this.known.get(sourceKey(source));
    if (mine) mine.open -= 1;
  }

  /** Who has nothing open and owes nothing. */
  forget(now: number): void {
    for (const [key, { open, pace }] of this.known) if (open <= 0 && pace.isFull(now)) this.known.delete(key);
  }
}

/** One customer has a whole /64 of IPv6 (RFC 6177), so that is one source. */
export function sourceKey(address: string): string {
  const plain = address.replace(/^::ffff:(?=\d+\.)/i, '');
  if (!plain.includes(':')) return plain;
  const [head = '', tail = ''] = plain.split('::');
  const first = head.split(':').filter(Boolean);
  const last = tail.split(':').filter(Boolean);
  const zeros = plain.includes('::') ? 8 - first.length - last.length : 0;
  return [...first, ...Array<string>(Math.max(0, zeros)).fill('0'), ...last].slice(0, 4).join(':');
}

/** Bytes of each office in the month that is now, kept over restarts. */
export class Usage {
  private month = '';
  private bytes = new Map<string, number>();

  /** @param folder null: nothing is kept on disk */
  constructor(
    private readonly folder: string | null,
    private readonly now: () => number,
  ) {
    try {
      const kept = JSON.parse(readFileSync(this.file ?? '', 'utf8')) as {
        month: string;
        bytes: Record<string, number>;
      };
      this.month = kept.month;
      this.bytes = new Map(Object.entries(kept.bytes));
    } catch {
      // The first month.
    }
  }

  add(office: string, bytes: number): void {
    this.turn();
    this.bytes.set(office, (this.bytes.get(office) ?? 0) + bytes);
  }

  of(office: string): number {
    this.turn();
    return this.bytes.get(office) ?? 0;
  }

  keep(): void {
    const { file } = this;
    if (!file) return;
    writeFileSync(`${file}.new`, JSON.stringify({ month: this.month, bytes: Object.fromEntries(this.bytes) }), {
      mode: 0o600,
    });
    renameSync(`${file}.new`, file);
  }

  private get file(): string | null {
    return this.folder && join(this.folder, 'usage.json');
  }

  private turn(): void {
    const month = new Date(this.now()).toISOString().slice(0, 7);
    if (month === this.month) return;
    this.month = month;
    this.bytes.clear();
  }
}
