import { Inject, Injectable } from '@nestjs/common';
import type { AccountBinding } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { CONFIG, type Config } from '../platform/config.js';
import { seal, unseal } from '../platform/seal.js';
import type { Account } from './authority.js';

interface AccountRow {
  key: Buffer;
  url: string | null;
  bindingId: string | null;
  bindingKey: Buffer | null;
}

/** The office's accounts at certificate authorities; their keys are sealed. */
@Injectable()
export class AccountsService {
  constructor(
    private readonly db: DataSource,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** The account at an authority; its key is made when it is first asked for. */
  async of(directory: string): Promise<Account> {
    await this.make(directory);
    const row = (await this.row(directory)) as AccountRow;
    const { sealingKey } = this.config;
    return {
      directory,
      key: unseal(sealingKey, row.key),
      url: row.url,
      binding:
        row.bindingId !== null && row.bindingKey
          ? { id: row.bindingId, key: unseal(sealingKey, row.bindingKey) }
          : null,
    };
  }

  /** Whom the authority knows this office as; null: nobody. */
  async bindingId(directory: string): Promise<string | null> {
    return (await this.row(directory))?.bindingId ?? null;
  }

  /** Keeps whom the authority knows this office as. The account is made anew, under it. */
  async bind(tx: EntityManager, directory: string, { id, key }: AccountBinding): Promise<void> {
    await this.make(directory);
    await tx.query(
      'UPDATE acme_account SET url = NULL, binding_id = $2, binding_key_sealed = $3 WHERE directory = $1',
      [directory, id, seal(this.config.sealingKey, key)],
    );
  }

  async keepUrl(directory: string, url: string | null): Promise<void> {
    await this.db.query('UPDATE acme_account SET url = $2 WHERE directory = $1', [directory, url]);
  }

  /** Two processes may come here at once: the first key counts. */
  private async make(directory: string): Promise<void> {
    if (await this.row(directory)) return;
    const { default: acme } = await import('acme-client');
    const made = (await acme.crypto.createPrivateEcdsaKey()).toString();
    await this.db.query('INSERT INTO acme_account (directory, key_sealed) VALUES ($1, $2) ON CONFLICT DO NOTHING', [
      directory,
      seal(this.config.sealingKey, made),
    ]);
  }

  private async row(directory: string): Promise<AccountRow | undefined> {
    const [row] = await this.db.query<AccountRow[]>(
      `SELECT key_sealed AS key, url, binding_id AS "bindingId", binding_key_sealed AS "bindingKey" FROM acme_account
        WHERE directory = $1`,
      [directory],
    );
    return row;
  }
}
