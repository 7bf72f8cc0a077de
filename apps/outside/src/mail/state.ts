/** A message that was handed in, as its reader sees it. */
export interface CaughtMail {
  id: number;
  receivedAt: string;
  from: string;
  to: string[];
  subject: string;
  text: string;
  sizeBytes: number;
}

/** Messages kept in memory, newest first, at most `most`. */
export class Mailbox {
  private readonly messages: CaughtMail[] = [];
  private nextId = 1;

  constructor(private readonly most = 500) {}

  add(mail: Omit<CaughtMail, 'id'>): CaughtMail {
    const kept = { ...mail, id: this.nextId };
    this.nextId += 1;
    this.messages.unshift(kept);
    this.messages.length = Math.min(this.messages.length, this.most);
    return kept;
  }

  list(): readonly CaughtMail[] {
    return this.messages;
  }

  get(id: number): CaughtMail | null {
    return this.messages.find((m) => m.id === id) ?? null;
  }
}
