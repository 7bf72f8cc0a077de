import type { QuayEvent } from '@quay/contract';

/**
 * What of the server's state is kept in this browser: the first part of every query key, and which event or change makes
 * what of it stale. Nothing else names keys.
 */
const KEPT = [
  'me',
  'stores',
  'folder',
  'sizes',
  'trash',
  'info',
  'find',
  'past',
  'tags',
  'access',
  'quotas',
  'colleagues',
  'tasks',
  'browse',
  'marks',
  'guardrails',
  'shares',
  'share',
  'intakes',
  'hand-overs',
  'templates',
  'calendar',
  'reach',
  'reach-plan',
  'ledger',
  'setup',
  'left',
  'settings',
  'sessions',
  'factor',
  'notices',
  'backups',
  'password-link',
  'sign-in',
  'people',
] as const;
export type Kept = (typeof KEPT)[number];
export type StateKey = readonly [Kept, ...unknown[]];

declare module '@tanstack/react-query' {
  interface Register {
    queryKey: StateKey;
  }
}

/** Everything that somebody may have looked at, but for who they are. */
const EVERYTHING: StateKey[] = KEPT.filter((kept) => kept !== 'me').map((kept) => [kept]);

/** What an event makes stale. */
export function staleAfter(event: Pick<QuayEvent, 'topic' | 'id'>): StateKey[] {
  switch (event.topic) {
    case 'share':
      return [['shares'], ['share', event.id], ['hand-overs', event.id], ['hand-overs', 'needing'], ['marks']];
    case 'intake':
      return [['intakes']];
    case 'node':
      return [
        ...([['folder', event.id], ['past', event.id], ['sizes'], ['info'], ['stores'], ['trash']] as StateKey[]),
        ...([['shares'], ['marks']] as StateKey[]),
      ];
    case 'store':
      return [['stores'], ['trash'], ['settings', 'stores'], ['folder']];
    case 'preview':
      return [['info', event.id]];
    case 'task':
      return [['tasks'], ['backups'], ['hand-overs']];
    case 'reach':
      return [['reach'], ['me'], ['shares']];
    case 'ledger':
      return [['ledger'], ['left']];
    case 'session':
      return [['me'], ['sessions'], ['factor'], ['left']];
    // Whatever is shown may be more now, or less.
    case 'access':
    case 'missed':
      return [...EVERYTHING, ['me']];
  }
}

/** What a change that was made here makes stale, before any event tells of it. */
export const STALE_AFTER_CHANGE = {
  items: [['folder'], ['sizes'], ['trash'], ['marks'], ['info'], ['find'], ['past'], ['stores']],
  access: [['access'], ['people'], ['folder'], ['sizes'], ['stores'], ['find'], ['marks']],
  shares: [['shares'], ['marks']],
  intakes: [['intakes'], ['folder'], ['sizes']],
  people: [['people'], ['access'], ['colleagues']],
  tags: [['tags']],
  tasks: [['tasks']],
  backups: [['backups'], ['tasks'], ['left']],
  reach: [['reach']],
} as const satisfies Record<string, StateKey[]>;

/** Asked for again when the connection stands: what happened before that moment is not known. */
export const STALE_WHEN_HEARD_AGAIN: readonly StateKey[] = EVERYTHING;

const FIRST_WAIT_MS = 200;
const LONGEST_WAIT_MS = 5000;

/**
 * Asks again for what has become stale: at once, and then ever less often while changes go on, so that ten thousand
 * uploads ask a few times. What changed last is always asked for after it.
 */
export class Refresher {
  private readonly waiting = new Map<string, StateKey>();
  private timer: ReturnType<typeof setTimeout> | null = null;
  private waitMs = FIRST_WAIT_MS;

  constructor(private readonly ask: (key: StateKey) => void) {}

  add(keys: readonly StateKey[]): void {
    for (const key of keys) this.waiting.set(JSON.stringify(key), key);
    if (this.timer === null) this.flush();
  }

  end(): void {
    if (this.timer !== null) clearTimeout(this.timer);
    this.timer = null;
    this.waiting.clear();
  }

  private flush(): void {
    const keys = [...this.waiting.values()];
    this.waiting.clear();
    for (const key of keys) this.ask(key);
    this.timer = setTimeout(() => {
      this.timer = null;
      this.waitMs = this.waiting.size > 0 ? Math.min(this.waitMs * 2, LONGEST_WAIT_MS) : FIRST_WAIT_MS;
      if (this.waiting.size > 0) this.flush();
    }, this.waitMs);
  }
}
