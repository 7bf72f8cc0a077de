import type { TextGateway } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { seal, unseal } from './seal.js';

/** A gateway, and the secret that is filled in. */
export interface KeptGateway {
  gateway: TextGateway;
  secret: string;
}

export async function hasTextGateway(m: EntityManager): Promise<boolean> {
  return (await m.query<unknown[]>('SELECT 1 FROM text_gateway')).length > 0;
}

export async function loadTextGateway(m: EntityManager, key: Buffer): Promise<KeptGateway | null> {
  const [row] = await m.query<(TextGateway & { sealed: Buffer | null })[]>(
    'SELECT url, format, fields, headers, secret_sealed AS sealed FROM text_gateway',
  );
  if (!row) return null;
  const { sealed, ...gateway } = row;
  return { gateway, secret: sealed ? unseal(key, sealed) : '' };
}

export async function keepTextGateway(
  tx: EntityManager,
  key: Buffer,
  { gateway, secret }: KeptGateway,
  at: Date,
): Promise<void> {
  const { url, format, fields, headers } = gateway;
  await tx.query(
    `INSERT INTO text_gateway (url, format, fields, headers, secret_sealed, changed_at)
     VALUES ($1, $2, $3, $4, $5, $6)
     ON CONFLICT (id) DO UPDATE SET url = $1, format = $2, fields = $3, headers = $4, secret_sealed = $5, changed_at = $6`,
    [url, format, JSON.stringify(fields), JSON.stringify(headers), secret === '' ? null : seal(key, secret), at],
  );
}

/** @returns whether there was one */
export async function forgetTextGateway(tx: EntityManager): Promise<boolean> {
  const [, removed] = (await tx.query('DELETE FROM text_gateway')) as [unknown, number];
  return removed > 0;
}
