import type { AddressRow, ReachCheck } from '@quay/contract';
import {
  addressText,
  plainPort,
  reachTrouble,
  type Address,
  type ReachMark,
  type VantageTrace,
  type WayIn,
} from '@quay/core';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { portabilityWords } from '../platform/office.js';
import { MAY_STILL_OPEN } from '../shares/links.queries.js';

export interface AddressRecord extends Address {
  id: string;
  wayIn: WayIn;
  uses: AddressRow['uses'];
  isDefault: boolean;
  redirect: boolean;
  hsts: boolean;
  fallback: 'offer' | 'auto';
  guide: Record<string, { at: string; by: 'program' | 'hand' }>;
  createdAt: Date;
  shareCount: number;
  mark: ReachMark | null;
  checkedAt: Date | null;
  vantages: VantageTrace[] | null;
  lapsing: string | null;
  /** Its own way in, which failed: the relay is used until that works again. */
  fellFrom: 'mapping' | 'fixed' | null;
  /** What the program last had the name lead to. */
  recorded: string[];
}

/**
 * What of a guide still holds when an address is reached in another way: certificate and redirect are about the name, and
 * what the program did for them it keeps up.
 */
export const GUIDE_OF_NAME = `guide - ARRAY['record', 'mapping', 'relay', 'closed']`;

/** Addresses, the default first; how many shares that could still be opened stand on each, and its newest check. */
export async function loadAddresses(m: EntityManager, now: Date, id: string | null = null): Promise<AddressRecord[]> {
  const rows = await m.query<(AddressRecord & { shareCount: string })[]>(
    `SELECT a.id, a.scheme, a.host, a.port, a.path_prefix AS "pathPrefix", a.way_in AS "wayIn", a.uses,
      a.is_default AS "isDefault", a.redirect, a.hsts, a.fallback, a.fell_from AS "fellFrom", a.recorded, a.guide, a.created_at AS "createdAt",
            (SELECT count(*) FROM share s WHERE s.address_id = a.id AND ${MAY_STILL_OPEN('$2')}) AS "shareCount", c.mark, c.at AS "checkedAt", c.vantages,
            (SELECT r.failure FROM renewal r WHERE r.address_id = a.id AND r.failure IS NOT NULL
              ORDER BY r.tried_at DESC LIMIT 1) AS lapsing
       FROM address a LEFT JOIN LATERAL (SELECT mark, at, vantages FROM reach_check WHERE address_id = a.id
         ORDER BY at DESC, id DESC LIMIT 1) c ON true
      WHERE $1::uuid IS NULL OR a.id = $1 ORDER BY a.is_default DESC, a.way_in = 'office', a.created_at`,
    [id, now],
  );
  return rows.map((r) => ({ ...r, shareCount: Number(r.shareCount) }));
}

export function addressRow(r: AddressRecord): AddressRow {
  const { guide: _guide, recorded: _recorded, vantages, mark, checkedAt, createdAt, ...row } = r;
  return {
    ...row,
    text: addressText(r),
    portability: portabilityWords(r.host),
    mark: mark ?? 'unknown',
    trouble: reachTrouble(r.wayIn, vantages ?? []),
    checkedAt: checkedAt?.toISOString() ?? null,
    createdAt: createdAt.toISOString(),
  };
}

/** The newest checks of an address, with everything that was found. */
export async function loadChecks(m: EntityManager, addressId: string, limit: number): Promise<ReachCheck[]> {
  const rows = await m.query<(Omit<ReachCheck, 'at'> & { at: Date })[]>(
    `SELECT id, at, why, took_ms AS "tookMs", mark, vantages FROM reach_check WHERE address_id = $1
      ORDER BY at DESC, id DESC LIMIT $2`,
    [addressId, limit],
  );
  return rows.map((r) => ({ ...r, at: r.at.toISOString() }));
}

/** Adds an address as it is asked for; whether it is sound and free is seen to before. @returns its id */
export async function insertAddress(
  tx: EntityManager,
  address: Address & Pick<AddressRecord, 'wayIn' | 'uses' | 'isDefault'>,
  at: Date,
): Promise<string> {
  const id = uuidv7();
  const { scheme, host, pathPrefix, isDefault, wayIn, uses } = address;
  await tx.query(
    `INSERT INTO address (id, scheme, host, port, path_prefix, is_default, way_in, uses, created_at)
      VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [id, scheme, host, plainPort(address), pathPrefix, isDefault, wayIn, uses, at],
  );
  return id;
}
