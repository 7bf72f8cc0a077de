import type { MigrationInterface, QueryRunner } from 'typeorm';
import { FIRST_SCHEMA } from './schema-0001.js';
import { STORES_SCHEMA } from './schema-0002.js';
import { REACH_SCHEMA } from './schema-0003.js';

export class FirstSlice1764000000000 implements MigrationInterface {
  name = 'FirstSlice1764000000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(FIRST_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('The first migration is not taken back: start over instead.');
  }
}

export class Stores1764200000000 implements MigrationInterface {
  name = 'Stores1764200000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(STORES_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('The past of items is not thrown away: restore a backup instead.');
  }
}

export class Reach1764300000000 implements MigrationInterface {
  name = 'Reach1764300000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(REACH_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Keys and proofs are not thrown away: restore a backup instead.');
  }
}

/** In order; never changed once released. */
export const MIGRATIONS = [FirstSlice1764000000000, Stores1764200000000, Reach1764300000000];
