/** The first schema. Constraints state what must never be, whatever the program does. */
export const FIRST_SCHEMA = `
CREATE TABLE office (
  id          smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  name        text NOT NULL,
  zone        text NOT NULL
);

CREATE TABLE person (
  id            uuid PRIMARY KEY,
  sign_in_name  text NOT NULL UNIQUE CHECK (sign_in_name = lower(sign_in_name)),
  email         text NOT NULL,
  name          text NOT NULL,
  initials      text NOT NULL,
  role          text NOT NULL CHECK (role IN ('admin', 'staff')),
  password_hash text NOT NULL,
  created_at    timestamptz NOT NULL,
  disabled_at   timestamptz
);

CREATE TABLE session (
  token_hash  bytea PRIMARY KEY CHECK (length(token_hash) = 32),
  person_id   uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  created_at  timestamptz NOT NULL,
  seen_at     timestamptz NOT NULL,
  expires_at  timestamptz NOT NULL
);
CREATE INDEX session_person ON session (person_id);

CREATE TABLE people_group (
  id    uuid PRIMARY KEY,
  name  text NOT NULL UNIQUE
);
CREATE TABLE group_member (
  group_id   uuid NOT NULL REFERENCES people_group ON DELETE CASCADE,
  person_id  uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  PRIMARY KEY (group_id, person_id)
);

CREATE TABLE store (
  id          uuid PRIMARY KEY,
  kind        text NOT NULL CHECK (kind IN ('home', 'common', 'sealed')),
  name        text NOT NULL,
  owner_id    uuid REFERENCES person,
  created_at  timestamptz NOT NULL,
  CHECK ((kind = 'home') = (owner_id IS NOT NULL))
);
CREATE TABLE store_grant (
  id         uuid PRIMARY KEY,
  store_id   uuid NOT NULL REFERENCES store ON DELETE CASCADE,
  person_id  uuid REFERENCES person ON DELETE CASCADE,
  group_id   uuid REFERENCES people_group ON DELETE CASCADE,
  level      text NOT NULL CHECK (level IN ('view', 'download', 'contribute', 'edit', 'manage')),
  CHECK (person_id IS NULL OR group_id IS NULL)
);
CREATE INDEX store_grant_store ON store_grant (store_id);

CREATE TABLE blob (
  sha256      bytea PRIMARY KEY CHECK (length(sha256) = 32),
  size_bytes  bigint NOT NULL CHECK (size_bytes >= 0),
  crc32       bigint NOT NULL CHECK (crc32 BETWEEN 0 AND 4294967295),
  created_at  timestamptz NOT NULL
);

CREATE TABLE node (
  id          uuid PRIMARY KEY,
  store_id    uuid NOT NULL REFERENCES store,
  parent_id   uuid REFERENCES node,
  kind        text NOT NULL CHECK (kind IN ('folder', 'file')),
  sort_kind   smallint NOT NULL GENERATED ALWAYS AS (CASE kind WHEN 'folder' THEN 0 ELSE 1 END) STORED,
  name        text NOT NULL,
  name_key    text COLLATE "C" NOT NULL,
  litter      boolean NOT NULL DEFAULT false,
  size_bytes  bigint NOT NULL DEFAULT 0 CHECK (size_bytes >= 0),
  media_type  text,
  version_id  uuid,
  created_at  timestamptz NOT NULL,
  changed_at  timestamptz NOT NULL,
  changed_by  uuid REFERENCES person,
  trashed_at  timestamptz,
  trashed_by  uuid REFERENCES person,
  CHECK ((kind = 'file') = (version_id IS NOT NULL)),
  CHECK (parent_id <> id),
  CHECK (parent_id IS NOT NULL OR kind = 'folder'),
  CHECK (parent_id IS NOT NULL OR trashed_at IS NULL)
);
CREATE UNIQUE INDEX node_one_name_per_folder ON node (parent_id, name_key) WHERE trashed_at IS NULL;
CREATE UNIQUE INDEX node_one_root_per_store ON node (store_id) WHERE parent_id IS NULL;
CREATE INDEX node_listing ON node (parent_id, sort_kind, name_key, id) WHERE trashed_at IS NULL;
CREATE INDEX node_trash ON node (store_id, trashed_at) WHERE trashed_at IS NOT NULL;

CREATE TABLE file_version (
  id           uuid PRIMARY KEY,
  node_id      uuid NOT NULL REFERENCES node,
  number       integer NOT NULL CHECK (number >= 1),
  sha256       bytea NOT NULL REFERENCES blob,
  size_bytes   bigint NOT NULL CHECK (size_bytes >= 0),
  modified_at  timestamptz NOT NULL,
  created_at   timestamptz NOT NULL,
  created_by   uuid REFERENCES person,
  UNIQUE (node_id, number)
);
CREATE INDEX file_version_blob ON file_version (sha256);
ALTER TABLE node ADD CONSTRAINT node_version FOREIGN KEY (version_id) REFERENCES file_version
  DEFERRABLE INITIALLY DEFERRED;

CREATE TABLE address (
  id           uuid PRIMARY KEY,
  scheme       text NOT NULL CHECK (scheme IN ('http', 'https')),
  host         text NOT NULL,
  port         integer CHECK (port BETWEEN 1 AND 65535),
  path_prefix  text NOT NULL DEFAULT '',
  is_default   boolean NOT NULL
);
CREATE UNIQUE INDEX address_one_default ON address (is_default) WHERE is_default;

CREATE TABLE share (
  id             uuid PRIMARY KEY,
  title          text NOT NULL CHECK (length(title) BETWEEN 1 AND 120),
  message        text NOT NULL DEFAULT '',
  token_hash     bytea NOT NULL UNIQUE CHECK (length(token_hash) = 32),
  token_sealed   bytea NOT NULL,
  address_id     uuid NOT NULL REFERENCES address,
  password_hash  text,
  opens_at       timestamptz,
  closes_at      timestamptz,
  visit_limit    integer CHECK (visit_limit BETWEEN 1 AND 100000),
  visits_used    integer NOT NULL DEFAULT 0 CHECK (visits_used >= 0),
  withdrawn_at   timestamptz,
  created_at     timestamptz NOT NULL,
  created_by     uuid NOT NULL REFERENCES person,
  CHECK (closes_at > opens_at)
);
CREATE INDEX share_creator ON share (created_by);
CREATE TABLE share_item (
  share_id  uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  node_id   uuid NOT NULL REFERENCES node,
  position  integer NOT NULL,
  PRIMARY KEY (share_id, node_id)
);
CREATE INDEX share_item_node ON share_item (node_id);

CREATE TABLE visit (
  id           uuid PRIMARY KEY,
  share_id     uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  cookie_hash  bytea NOT NULL UNIQUE CHECK (length(cookie_hash) = 32),
  began_at     timestamptz NOT NULL,
  ended_at     timestamptz,
  from_address text NOT NULL,
  agent        text NOT NULL
);
CREATE INDEX visit_share ON visit (share_id, began_at);
CREATE TABLE visit_file (
  visit_id  uuid NOT NULL REFERENCES visit ON DELETE CASCADE,
  node_id   uuid NOT NULL REFERENCES node,
  first_at  timestamptz NOT NULL,
  PRIMARY KEY (visit_id, node_id)
);

CREATE TABLE ledger_entry (
  seq         bigint PRIMARY KEY CHECK (seq >= 1),
  at          timestamptz(3) NOT NULL,
  kind        text NOT NULL,
  actor_kind  text NOT NULL CHECK (actor_kind IN ('person', 'visitor', 'system')),
  actor_id    uuid,
  actor_name  text NOT NULL,
  share_id    uuid,
  node_id     uuid,
  detail      jsonb NOT NULL,
  prev_hash   text NOT NULL CHECK (prev_hash ~ '^[0-9a-f]{64}$'),
  hash        text NOT NULL UNIQUE CHECK (hash ~ '^[0-9a-f]{64}$')
);
CREATE INDEX ledger_share ON ledger_entry (share_id, seq) WHERE share_id IS NOT NULL;
CREATE INDEX ledger_kind ON ledger_entry (kind, seq);
CREATE FUNCTION ledger_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  RAISE EXCEPTION 'the ledger is append-only';
END $$;
CREATE TRIGGER ledger_append_only BEFORE UPDATE OR DELETE ON ledger_entry FOR EACH ROW
  EXECUTE FUNCTION ledger_is_append_only();
CREATE TRIGGER ledger_no_truncate BEFORE TRUNCATE ON ledger_entry EXECUTE FUNCTION ledger_is_append_only();

CREATE UNLOGGED TABLE attempt (
  key           text PRIMARY KEY,
  window_start  timestamptz NOT NULL,
  count         integer NOT NULL
);
`;
