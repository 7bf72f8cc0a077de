/** What is in a share changes while it is out; an item of it may be frozen: it is served as it was then. */
export const SHARE_ITEMS_SCHEMA = `
-- When it was frozen, and what it held then; null: it is served as it is at the time.
ALTER TABLE share_item ADD COLUMN frozen_at timestamptz, ADD COLUMN frozen_bytes bigint,
  ADD CHECK ((frozen_at IS NULL) = (frozen_bytes IS NULL));

-- Its files go to the trash when it closes; each item is then marked as cleared.
ALTER TABLE share ADD COLUMN removes_files boolean NOT NULL DEFAULT false;
ALTER TABLE share_item ADD COLUMN cleared_at timestamptz;
CREATE INDEX share_removes ON share (closes_at) WHERE removes_files AND withdrawn_at IS NULL;

-- What was in a frozen item, under the paths of then. A version that is removed is not in it any more.
CREATE TABLE share_frozen (
  share_id    uuid NOT NULL,
  item_id     uuid NOT NULL,
  node_id     uuid NOT NULL,
  version_id  uuid REFERENCES file_version ON DELETE CASCADE,
  kind        text NOT NULL CHECK (kind IN ('folder', 'file')),
  path        text NOT NULL,
  sort        text COLLATE "C" NOT NULL,
  media_type  text,
  changed_at  timestamptz NOT NULL,
  PRIMARY KEY (share_id, item_id, node_id),
  FOREIGN KEY (share_id, item_id) REFERENCES share_item ON DELETE CASCADE
);
CREATE INDEX share_frozen_version ON share_frozen (version_id);
CREATE INDEX share_frozen_node ON share_frozen (node_id, share_id);

-- Folders in homes into which files go that are dropped on the slip. At most so many bytes are brought into one; what no
-- share needs any more goes from it into the trash after some days.
CREATE TABLE outgoing (
  folder_id         uuid PRIMARY KEY REFERENCES node,
  person_id         uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  limit_bytes       bigint NOT NULL CHECK (limit_bytes > 0),
  clear_after_days  integer NOT NULL CHECK (clear_after_days BETWEEN 1 AND 3650)
);
CREATE INDEX outgoing_person ON outgoing (person_id);

-- Who was refused at a share, in each hour: by reason and source; the empty source stands for many.
CREATE TABLE share_refusal (
  share_id      uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  hour          timestamptz NOT NULL,
  reason        text NOT NULL,
  source        text NOT NULL,
  from_address  text,
  count         integer NOT NULL CHECK (count > 0),
  last_at       timestamptz NOT NULL,
  -- When it was written into the ledger.
  told_at       timestamptz,
  PRIMARY KEY (share_id, hour, reason, source)
);
CREATE INDEX share_refusal_untold ON share_refusal (hour) WHERE told_at IS NULL;

-- Choices of the slip that were kept with a name, by somebody for themselves or (no person) for all of the office.
CREATE TABLE slip_template (
  id          uuid PRIMARY KEY,
  person_id   uuid REFERENCES person ON DELETE CASCADE,
  name        text NOT NULL CHECK (length(name) BETWEEN 1 AND 80),
  terms       jsonb NOT NULL,
  created_at  timestamptz NOT NULL
);
CREATE UNIQUE INDEX slip_template_name ON slip_template (person_id, lower(name)) NULLS NOT DISTINCT;

-- When a visit first took something.
ALTER TABLE visit ADD COLUMN taken_at timestamptz;

-- What somebody may be told of by mail; each at once, or what concerns shares in one mail a day, from here.
ALTER TABLE person DROP CONSTRAINT person_notices_check, ADD CONSTRAINT person_notices_check CHECK (notices <@
  ARRAY['share-closing', 'share-opened', 'share-taken', 'share-used-up', 'share-tried', 'server']);
ALTER TABLE person ADD COLUMN notices_daily boolean NOT NULL DEFAULT false;
CREATE TABLE notice_waiting (
  id         uuid PRIMARY KEY,
  person_id  uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  text       text NOT NULL,
  at         timestamptz NOT NULL
);
CREATE INDEX notice_waiting_person ON notice_waiting (person_id, at);

-- The private address at which somebody's calendar program finds the windows of their shares.
CREATE TABLE calendar_link (
  person_id     uuid PRIMARY KEY REFERENCES person ON DELETE CASCADE,
  token_hash    bytea NOT NULL UNIQUE CHECK (length(token_hash) = 32),
  token_sealed  bytea NOT NULL,
  made_at       timestamptz NOT NULL
);

-- Whom no share of the office lets in by a code, whatever its list says.
CREATE TABLE office_block (
  kind   text NOT NULL CHECK (kind IN ('address', 'domain', 'subdomains')),
  value  text NOT NULL,
  PRIMARY KEY (kind, value)
);

CREATE FUNCTION share_items_went() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  share_ids uuid[] := ARRAY(SELECT DISTINCT share_id FROM went);
BEGIN
  PERFORM shares_place(share_ids);
  PERFORM shares_bar(share_ids);
  RETURN NULL;
END $$;
CREATE TRIGGER share_items_taken_off AFTER DELETE ON share_item REFERENCING OLD TABLE AS went
  FOR EACH STATEMENT EXECUTE FUNCTION share_items_went();
`;
