import { Injectable } from '@nestjs/common';
import type { Me } from '@quay/contract';
import {
  addressText,
  STRONG_ENOUGH_SCORE,
  portabilityFault,
  type Address,
  type PortabilityFault,
  type ReachMark,
  type SecurityFacts,
} from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';

export interface OfficeSettings {
  name: string;
  /** IANA time zone, in which windows are entered and times are shown. */
  zone: string;
  /** Everybody gets a place of their own. */
  homes: boolean;
  /** What visitors read under every share; empty: nothing. */
  words: string;
}

/** The logo on visitors' pages. */
export interface Logo {
  png: Buffer;
  /** Another one has another. */
  version: string;
}

/** What the office is called and which clock hangs on its wall. */
const PORTABILITY_WORDS: Record<PortabilityFault, string> = {
  'single-label': 'the name has no domain, so only the office network knows it.',
  'private-name': 'the name is one that only the office network knows.',
  'private-address': 'the address is a private one that only the office network reaches.',
};

/** Why links on a host cannot work outside the office, in words; null when they can. */
export function portabilityWords(host: string): string | null {
  const fault = portabilityFault(host);
  return fault && PORTABILITY_WORDS[fault];
}

export interface NewOffice extends Omit<OfficeSettings, 'words'> {
  /** Outsiders are not to get in for now. */
  insideOnly: boolean;
  /** The folder in which its bytes lie. */
  blobRoot: string;
}

export async function beginOffice(tx: EntityManager, office: NewOffice): Promise<void> {
  await tx.query('INSERT INTO office (name, zone, homes, inside_only, blob_root) VALUES ($1, $2, $3, $4, $5)', [
    office.name,
    office.zone,
    office.homes,
    office.insideOnly,
    office.blobRoot,
  ]);
}

/** @returns how it was before */
export async function changeOffice(tx: EntityManager, asked: OfficeSettings): Promise<OfficeSettings> {
  const [before] = await tx.query<OfficeSettings[]>(`SELECT ${SETTINGS} FROM office FOR UPDATE`);
  await tx.query('UPDATE office SET name = $1, zone = $2, homes = $3, visitor_words = $4', [
    asked.name,
    asked.zone,
    asked.homes,
    asked.words,
  ]);
  return before as OfficeSettings;
}

/** The day of the last notice of the morning, as in 2026-11-27; null: there was none. */
export async function lastMorning(m: EntityManager): Promise<string | null> {
  const [row] = await m.query<{ day: string | null }[]>(`SELECT to_char(noticed_on, 'YYYY-MM-DD') AS day FROM office`);
  return row?.day ?? null;
}

/** Takes the notice of a morning; false when it was taken. */
export async function claimMorning(tx: EntityManager, day: string): Promise<boolean> {
  const [, taken] = (await tx.query('UPDATE office SET noticed_on = $1 WHERE noticed_on IS DISTINCT FROM $1', [
    day,
  ])) as [unknown, number];
  return taken > 0;
}

const SETTINGS = 'name, zone, homes, visitor_words AS words';

/** @param logo null: there is to be none. @returns whether there was one */
export async function changeLogo(tx: EntityManager, logo: Logo | null): Promise<boolean> {
  const [, had] = (await tx.query('DELETE FROM office_logo')) as [unknown, number];
  if (logo) await tx.query('INSERT INTO office_logo (png, version) VALUES ($1, $2)', [logo.png, logo.version]);
  return had > 0;
}

/** Where the bytes of an office lie, if that was said on the screen. */
export async function blobRootOf(m: EntityManager): Promise<string | null> {
  const [row] = await m.query<{ root: string | null }[]>('SELECT blob_root AS root FROM office');
  return row?.root ?? null;
}

/** What an office asks of those who sign in; before there is one, what most begin with. */
export async function securityOf(m: Pick<EntityManager, 'query'>): Promise<SecurityFacts> {
  const [row] = await m.query<SecurityFacts[]>(
    `SELECT session_days AS "sessionDays", least_strength AS "leastStrength", factor_wanted AS "factorWanted",
       factor_grace_days AS "factorGraceDays", sign_in_outside AS "signInOutside" FROM office`,
  );
  return (
    row ?? {
      sessionDays: 14,
      leastStrength: STRONG_ENOUGH_SCORE,
      factorWanted: 'nobody',
      factorGraceDays: 0,
      signInOutside: 'everybody',
    }
  );
}

/** @returns how it was before */
export async function changeSecurity(tx: EntityManager, asked: SecurityFacts, at: Date): Promise<SecurityFacts> {
  const before = await securityOf(tx);
  await tx.query(
    `UPDATE office SET session_days = $1, least_strength = $2, factor_grace_days = $4, sign_in_outside = $5,
            factor_wanted_since = CASE WHEN factor_wanted <> $3 THEN $6 ELSE factor_wanted_since END,
            factor_wanted = $3`,
    [asked.sessionDays, asked.leastStrength, asked.factorWanted, asked.factorGraceDays, asked.signInOutside, at],
  );
  return before;
}

@Injectable()
export class Office {
  constructor(private readonly db: DataSource) {}

  security(): Promise<SecurityFacts> {
    return securityOf(this.db.manager);
  }

  /** Since when a second factor is wanted from those from whom it is. */
  async factorWantedSince(): Promise<number | null> {
    const [row] = await this.db.query<{ at: Date | null }[]>('SELECT factor_wanted_since AS at FROM office');
    return row?.at?.getTime() ?? null;
  }

  async settings(): Promise<OfficeSettings> {
    const [row] = await this.db.query<OfficeSettings[]>(`SELECT ${SETTINGS} FROM office`);
    return row ?? { name: 'This office', zone: 'UTC', homes: true, words: '' };
  }

  /** What visitors' pages say of the office: its logo by version, null when there is none. */
  async toVisitors(): Promise<OfficeSettings & { logo: string | null }> {
    const [row] = await this.db.query<(OfficeSettings & { logo: string | null })[]>(
      `SELECT ${SETTINGS}, (SELECT version FROM office_logo) AS logo FROM office`,
    );
    return row ?? { ...(await this.settings()), logo: null };
  }

  async logo(): Promise<Logo | null> {
    const [row] = await this.db.query<Logo[]>('SELECT png, version FROM office_logo');
    return row ?? null;
  }

  /** Everything links can be built on, the default first, with how each was last found from outside. */
  async addresses(): Promise<Me['addresses']> {
    const rows = await this.db.query<(Address & { id: string; reach: ReachMark | null })[]>(
      `SELECT a.id, a.scheme, a.host, a.port, a.path_prefix AS "pathPrefix",
        (SELECT c.outside FROM reach_check c WHERE c.address_id = a.id ORDER BY c.at DESC, c.id DESC LIMIT 1) AS reach
         FROM address a ORDER BY a.is_default DESC, a.created_at`,
    );
    return rows.map((r) => ({
      id: r.id,
      text: addressText(r),
      portability: portabilityWords(r.host),
      reach: r.reach ?? 'unknown',
    }));
  }

  /** The address that new links are built on; null while there is none. */
  async defaultAddress(): Promise<(Address & { id: string }) | null> {
    const [row] = await this.db.query<(Address & { id: string })[]>(
      'SELECT id, scheme, host, port, path_prefix AS "pathPrefix" FROM address WHERE is_default',
    );
    return row ?? null;
  }
}
