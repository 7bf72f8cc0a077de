/** People and groups of the office's directory (LDAP): how it is asked, whom its entries stand for, what runs did. */
export const DIRECTORY_SCHEMA = `
CREATE TABLE directory (
  id               integer PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  settings         jsonb NOT NULL,
  password_sealed  bytea NOT NULL,
  changed_at       timestamptz NOT NULL
);

-- The account or the group that an entry stands for. An entry is known by what never changes of it.
CREATE TABLE directory_entry (
  entry_id     text PRIMARY KEY CHECK (length(entry_id) BETWEEN 1 AND 300),
  person_id    uuid UNIQUE REFERENCES person,
  group_id     uuid UNIQUE REFERENCES people_group,
  dn           text NOT NULL,
  -- By what somebody signs in as well, in small letters.
  names        text[] NOT NULL DEFAULT '{}',
  since        timestamptz NOT NULL,
  -- Not seen any more, or disabled there: then the account was disabled by the directory.
  gone_at      timestamptz,
  -- Of the password with which they last signed in, for while the directory is away.
  verifier     text,
  verified_at  timestamptz,
  CHECK (num_nonnulls(person_id, group_id) = 1),
  CHECK (num_nonnulls(verifier, verified_at) IN (0, 2))
);
CREATE INDEX directory_entry_names ON directory_entry USING gin (names);

-- A look at the directory, and what came of it.
CREATE TABLE directory_run (
  id        uuid PRIMARY KEY,
  at        timestamptz NOT NULL,
  -- When whoever does it last got on.
  alive_at  timestamptz NOT NULL,
  -- Null: the program itself.
  asked_by  uuid REFERENCES person,
  state     text NOT NULL CHECK (state IN ('looking', 'waiting', 'doing', 'done', 'failed', 'dropped')),
  -- Entries that were chosen, and which accounts and groups entries are to be.
  asked     jsonb NOT NULL,
  -- As it was written: it is compared with what the directory says later.
  plan      json,
  words     text NOT NULL DEFAULT '',
  asks      boolean NOT NULL DEFAULT false,
  done      integer NOT NULL DEFAULT 0,
  total     integer NOT NULL DEFAULT 0,
  ended_at  timestamptz
);
CREATE INDEX directory_run_at ON directory_run (at DESC);
-- One at a time is being looked at or done.
CREATE UNIQUE INDEX directory_run_under_way ON directory_run ((true)) WHERE state IN ('looking', 'doing');
`;
