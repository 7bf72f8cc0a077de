import type { MigrationInterface, QueryRunner } from 'typeorm';
import { FIRST_SCHEMA } from './schema-0001.js';
import { STORES_SCHEMA } from './schema-0002.js';
import { REACH_SCHEMA } from './schema-0003.js';
import { MEND_SCHEMA } from './schema-0004.js';
import { TASKS_SCHEMA } from './schema-0005.js';
import { ACCESS_SCHEMA } from './schema-0006.js';
import { REACH_OF_SCHEMA } from './schema-0007.js';
import { ACTORS_SCHEMA } from './schema-0008.js';
import { LATER_SCHEMA } from './schema-0009.js';
import { WEIGHTS_SCHEMA } from './schema-0010.js';
import { STANDING_SCHEMA } from './schema-0011.js';
import { COUNTING_SCHEMA } from './schema-0012.js';
import { DIFFERENCE_SCHEMA } from './schema-0013.js';
import { BEGIN_SCHEMA } from './schema-0014.js';
import { PASSWORD_LINK_SCHEMA } from './schema-0015.js';
import { BACKUP_SCHEMA } from './schema-0016.js';
import { SIGNED_IN_SCHEMA } from './schema-0017.js';
import { SETTLED_SCHEMA } from './schema-0018.js';
import { ROUTER_AGE_SCHEMA } from './schema-0019.js';
import { ORDERS_SCHEMA } from './schema-0020.js';
import { SIX_SCHEMA } from './schema-0021.js';
import { PEOPLE_SCHEMA } from './schema-0022.js';
import { DIRECTORY_SCHEMA } from './schema-0023.js';
import { PROVIDER_SCHEMA } from './schema-0024.js';
import { FACTOR_SCHEMA } from './schema-0025.js';
import { DUTY_SET_SCHEMA } from './schema-0026.js';
import { AUDIENCE_SCHEMA } from './schema-0027.js';
import { GIVEN_PASSWORD_SCHEMA } from './schema-0028.js';
import { SHARE_ITEMS_SCHEMA } from './schema-0029.js';
import { SHARE_MAY_SCHEMA } from './schema-0030.js';
import { SHARE_LIMITS_SCHEMA } from './schema-0031.js';
import { HAND_OVER_SCHEMA } from './schema-0032.js';
import { HAND_OVER_WAYS_SCHEMA } from './schema-0033.js';
import { INTAKE_SCHEMA } from './schema-0034.js';

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

export class Mend1764400000000 implements MigrationInterface {
  name = 'Mend1764400000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(MEND_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('What must never be stays forbidden: restore a backup instead.');
  }
}

export class Tasks1764500000000 implements MigrationInterface {
  name = 'Tasks1764500000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(TASKS_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query('ALTER TABLE task DROP COLUMN claim');
  }
}

export class Access1764600000000 implements MigrationInterface {
  name = 'Access1764600000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(ACCESS_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who could reach what is not forgotten: restore a backup instead.');
  }
}

export class AccessReach1764700000000 implements MigrationInterface {
  name = 'AccessReach1764700000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(REACH_OF_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who brought what is not forgotten: restore a backup instead.');
  }
}

export class Actors1764800000000 implements MigrationInterface {
  name = 'Actors1764800000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(ACTORS_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who did what is not forgotten: restore a backup instead.');
  }
}

export class Later1764900000000 implements MigrationInterface {
  name = 'Later1764900000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(LATER_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query('DROP TABLE mail, share_moment');
  }
}

export class Weights1765000000000 implements MigrationInterface {
  name = 'Weights1765000000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(WEIGHTS_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      DROP TRIGGER node_came_weighs ON node;
      DROP TRIGGER node_changed_weighs ON node;
      DROP TRIGGER node_went_weighs ON node;
      DROP FUNCTION nodes_came, nodes_changed, nodes_went, weights_fold, weight_of;
      DROP TABLE weight_change, folder_weight;
      DROP TYPE weight;
      DROP INDEX node_brought_unaccepted`);
  }
}

export class Standing1765100000000 implements MigrationInterface {
  name = 'Standing1765100000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(STANDING_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      DROP TRIGGER share_items_placed ON share_item;
      DROP TRIGGER node_changed_shares ON node;
      DROP TRIGGER home_owner_shares ON store;
      DROP TRIGGER reach_worked_out ON access_reach_state;
      DROP TRIGGER folder_rooted_shares ON folder_access;
      DROP TRIGGER visit_last ON visit;
      DROP FUNCTION share_items_came, shares_follow, home_shares_follow, reach_bars_shares, visit_is_last, shares_rooted,
        shares_ask_again, shares_place, shares_bar;
      DROP TABLE share_path, share_fault, share_home;
      DROP INDEX share_of, share_by_made, share_by_end, share_by_title, share_by_visit, share_find;
      ALTER TABLE share DROP COLUMN last_visit_at;
      ALTER TABLE access_reach_state DROP COLUMN publishable;
      CREATE INDEX share_creator ON share (created_by)`);
  }
}

export class Counting1765200000000 implements MigrationInterface {
  name = 'Counting1765200000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(COUNTING_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('What stores use is counted in one way only: restore a backup instead.');
  }
}

export class Difference1765300000000 implements MigrationInterface {
  name = 'Difference1765300000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(DIFFERENCE_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('The functions before did the same, slower: restore a backup instead.');
  }
}

export class Begin1765400000000 implements MigrationInterface {
  name = 'Begin1765400000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(BEGIN_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE setup, mail_server;
      ALTER TABLE office DROP COLUMN homes, DROP COLUMN inside_only, DROP COLUMN blob_root`);
  }
}

export class PasswordLink1765500000000 implements MigrationInterface {
  name = 'PasswordLink1765500000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(PASSWORD_LINK_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query('DROP TABLE password_link');
  }
}

export class Backups1765600000000 implements MigrationInterface {
  name = 'Backups1765600000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(BACKUP_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE backup_place;
      ALTER TABLE office DROP COLUMN uid;
      DELETE FROM task WHERE kind IN ('backup', 'rehearsal');
      ALTER TABLE task DROP CONSTRAINT task_kind_check;
      ALTER TABLE task ADD CONSTRAINT task_kind_check CHECK (kind IN ('import', 'export', 'scrub'))`);
  }
}

export class SignedIn1765700000000 implements MigrationInterface {
  name = 'SignedIn1765700000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(SIGNED_IN_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE session DROP COLUMN id, DROP COLUMN from_address, DROP COLUMN agent;
      ALTER TABLE office DROP COLUMN session_days, DROP COLUMN least_strength`);
  }
}

export class Settled1765800000000 implements MigrationInterface {
  name = 'Settled1765800000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(SETTLED_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TRIGGER store_archived_remembers ON store;
      DROP TABLE recovery_code, second_factor, office_logo, store_archived;
      DROP FUNCTION store_archived_remember();
      ALTER TABLE store DROP COLUMN position, DROP COLUMN archived_at;
      ALTER TABLE person DROP COLUMN factor_declined_at, DROP COLUMN notices;
      DELETE FROM share_moment WHERE what = 'closes-soon';
      ALTER TABLE share_moment DROP CONSTRAINT share_moment_what_check,
        ADD CONSTRAINT share_moment_what_check CHECK (what IN ('opens', 'closes'));
      ALTER TABLE office DROP COLUMN factor_wanted, DROP COLUMN sign_in_outside, DROP COLUMN visitor_words,
        DROP COLUMN noticed_on`);
  }
}

export class RouterAge1765900000000 implements MigrationInterface {
  name = 'RouterAge1765900000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(ROUTER_AGE_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE port_mapping DROP COLUMN epoch_seconds, DROP COLUMN epoch_at;
      ALTER TABLE acme_account DROP COLUMN url`);
  }
}

export class Orders1766000000000 implements MigrationInterface {
  name = 'Orders1766000000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(ORDERS_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE certificate_order, relay_invitation, name_update;
      ALTER TABLE address DROP COLUMN fell_from;
      ALTER TABLE certificate DROP COLUMN renew_at, DROP COLUMN renew_why, DROP COLUMN ask_again_at;
      DELETE FROM acme_challenge WHERE host IS NOT NULL;
      ALTER TABLE acme_challenge DROP COLUMN host;
      ALTER TABLE acme_account DROP COLUMN binding_id, DROP COLUMN binding_key_sealed`);
  }
}

export class Six1766100000000 implements MigrationInterface {
  name = 'Six1766100000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(SIX_SCHEMA);
  }
  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DELETE FROM port_mapping WHERE family = 6;
      ALTER TABLE port_mapping DROP CONSTRAINT port_mapping_pkey, DROP COLUMN family, DROP COLUMN inside,
        DROP COLUMN pinhole, ADD PRIMARY KEY (address_id, external_port);
      ALTER TABLE address DROP COLUMN recorded;
      DROP TABLE network_setting, lookout`);
  }
}

export class People1766200000000 implements MigrationInterface {
  name = 'People1766200000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(PEOPLE_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who answers for whom is not thrown away: restore a backup instead.');
  }
}

class Directory1766300000000 implements MigrationInterface {
  name = 'Directory1766300000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(DIRECTORY_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who comes from the directory is not thrown away: restore a backup instead.');
  }
}

class Provider1766400000000 implements MigrationInterface {
  name = 'Provider1766400000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(PROVIDER_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who signs in by a provider is not thrown away: restore a backup instead.');
  }
}

class Factor1766500000000 implements MigrationInterface {
  name = 'Factor1766500000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(FACTOR_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Since when a second factor is wanted is not thrown away: restore a backup instead.');
  }
}

export class DutySets1766600000000 implements MigrationInterface {
  name = 'DutySets1766600000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(DUTY_SET_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who has which duties is not thrown away: restore a backup instead.');
  }
}

export class Audience1766700000000 implements MigrationInterface {
  name = 'Audience1766700000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(AUDIENCE_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Without whom shares are for, they would be for anyone: restore a backup instead.');
  }
}

export class GivenPassword1766800000000 implements MigrationInterface {
  name = 'GivenPassword1766800000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(GIVEN_PASSWORD_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Who has to choose a password of their own is not thrown away: restore a backup instead.');
  }
}

export class ShareItems1766900000000 implements MigrationInterface {
  name = 'ShareItems1766900000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(SHARE_ITEMS_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('What was frozen would be served as it is now: restore a backup instead.');
  }
}

export class ShareMay1767000000000 implements MigrationInterface {
  name = 'ShareMay1767000000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(SHARE_MAY_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error("What visitors brought would be nobody's: restore a backup instead.");
  }
}

export class ShareLimits1767100000000 implements MigrationInterface {
  name = 'ShareLimits1767100000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(SHARE_LIMITS_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('Shares would be judged by where their links were: restore a backup instead.');
  }
}

export class HandOver1767200000000 implements MigrationInterface {
  name = 'HandOver1767200000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(HAND_OVER_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('To whom links went would be forgotten: restore a backup instead.');
  }
}

export class HandOverWays1767300000000 implements MigrationInterface {
  name = 'HandOverWays1767300000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(HAND_OVER_WAYS_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('How links went would be forgotten: restore a backup instead.');
  }
}

export class Intakes1767400000000 implements MigrationInterface {
  name = 'Intakes1767400000000';
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(INTAKE_SCHEMA);
  }
  async down(): Promise<void> {
    throw new Error('What was handed in would be lost: restore a backup instead.');
  }
}

/** In order; never changed once released. */
export const MIGRATIONS = [
  FirstSlice1764000000000,
  Stores1764200000000,
  Reach1764300000000,
  Mend1764400000000,
  Tasks1764500000000,
  Access1764600000000,
  AccessReach1764700000000,
  Actors1764800000000,
  Later1764900000000,
  Weights1765000000000,
  Standing1765100000000,
  Counting1765200000000,
  Difference1765300000000,
  Begin1765400000000,
  PasswordLink1765500000000,
  Backups1765600000000,
  SignedIn1765700000000,
  Settled1765800000000,
  RouterAge1765900000000,
  Orders1766000000000,
  Six1766100000000,
  People1766200000000,
  Directory1766300000000,
  Provider1766400000000,
  Factor1766500000000,
  DutySets1766600000000,
  Audience1766700000000,
  GivenPassword1766800000000,
  ShareItems1766900000000,
  ShareMay1767000000000,
  ShareLimits1767100000000,
  HandOver1767200000000,
  HandOverWays1767300000000,
  Intakes1767400000000,
];

/** What they run, in the same order: the state that a database of today is in. */
export const SCHEMAS = [
  FIRST_SCHEMA,
  STORES_SCHEMA,
  REACH_SCHEMA,
  MEND_SCHEMA,
  TASKS_SCHEMA,
  ACCESS_SCHEMA,
  REACH_OF_SCHEMA,
  ACTORS_SCHEMA,
  LATER_SCHEMA,
  WEIGHTS_SCHEMA,
  STANDING_SCHEMA,
  COUNTING_SCHEMA,
  DIFFERENCE_SCHEMA,
  BEGIN_SCHEMA,
  PASSWORD_LINK_SCHEMA,
  BACKUP_SCHEMA,
  SIGNED_IN_SCHEMA,
  SETTLED_SCHEMA,
  ROUTER_AGE_SCHEMA,
  ORDERS_SCHEMA,
  SIX_SCHEMA,
  PEOPLE_SCHEMA,
  DIRECTORY_SCHEMA,
  PROVIDER_SCHEMA,
  FACTOR_SCHEMA,
  DUTY_SET_SCHEMA,
  AUDIENCE_SCHEMA,
  GIVEN_PASSWORD_SCHEMA,
  SHARE_ITEMS_SCHEMA,
  SHARE_MAY_SCHEMA,
  SHARE_LIMITS_SCHEMA,
  HAND_OVER_SCHEMA,
  HAND_OVER_WAYS_SCHEMA,
  INTAKE_SCHEMA,
];
