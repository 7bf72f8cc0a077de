import type { MigrationInterface, QueryRunner } from 'typeorm';
import { FIRST_SCHEMA } from './schema-0001.js';

export class FirstSlice1764000000000 implements MigrationInterface {
  name = 'FirstSlice1764000000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(FIRST_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('The first schema is not taken back: restore a backup instead.');
  }
}

/** In order; never changed once released. */
export const MIGRATIONS = [FirstSlice1764000000000];
