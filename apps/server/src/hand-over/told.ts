import {
  addressText,
  itemLines,
  passwordNote,
  shareLink,
  windowWords,
  type Instant,
  type MessageValues,
  type ToldFacts,
} from '@quay/core';
import { createHash } from 'node:crypto';
import { unseal } from '../platform/seal.js';
import { factsOf, type ShareRecord } from '../shares/shares.queries.js';

/** What of a share matters to whoever has its link or its password. */
export const toldOf = (share: ShareRecord): ToldFacts => ({
  ...{ window: factsOf(share).window, address: addressText(share.address), level: share.may.level },
  password: passwordMark(share.passwordHash),
});

/** Another hash is another password, and tells nothing of it. */
export const passwordMark = (passwordHash: string | null): string | null =>
  passwordHash && createHash('sha256').update(passwordHash).digest('base64url').slice(0, 16);

export interface Told {
  now: Instant;
  zone: string;
  /** Whoever sends it. */
  sender: string;
  sealingKey: Buffer;
  items: readonly { name: string }[];
}

/** What a message about a share is filled with. */
export const messageValues = (share: ShareRecord, { now, zone, sender, sealingKey, items }: Told): MessageValues => ({
  ...windowWords(factsOf(share).window, now, zone),
  link: shareLink(share.address, unseal(sealingKey, share.tokenSealed)),
  ...{ title: share.title, sender, items: itemLines(items.map((i) => i.name)) },
  'password-note': passwordNote(share.passwordHash !== null),
});
