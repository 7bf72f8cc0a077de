/** What visitors may do with a share; whoever holds its link may bring files into it, if it says so. */
export const SHARE_MAY_SCHEMA = `
ALTER TABLE share ADD COLUMN level text NOT NULL DEFAULT 'download'
    CHECK (level IN ('view', 'download', 'contribute', 'edit')),
  -- Of 'contribute': whether what is there, and what others bring, is shown.
  ADD COLUMN sees_others boolean NOT NULL DEFAULT true,
  -- So many bytes are taken in, and so many have been.
  ADD COLUMN takes_bytes bigint NOT NULL DEFAULT 5000000000 CHECK (takes_bytes > 0),
  ADD COLUMN brought_bytes bigint NOT NULL DEFAULT 0 CHECK (brought_bytes >= 0);

-- Whether what visitors take is marked for each of them, and what becomes of kinds that cannot be.
ALTER TABLE share ADD COLUMN watermark text NOT NULL DEFAULT 'none'
  CHECK (watermark IN ('none', 'others-plain', 'others-withheld'));
-- Copies that are marked for a visit, of a file's bytes ('whole') or of a picture of them.
CREATE TABLE marked_copy (
  visit_id     uuid NOT NULL REFERENCES visit ON DELETE CASCADE,
  sha256       bytea NOT NULL CHECK (length(sha256) = 32),
  what         text NOT NULL,
  -- Null: it cannot be marked.
  copy_sha256  bytea REFERENCES blob,
  made_at      timestamptz NOT NULL,
  PRIMARY KEY (visit_id, sha256, what)
);
CREATE INDEX marked_copy_blob ON marked_copy (copy_sha256);
CREATE INDEX marked_copy_made ON marked_copy (made_at);

-- As whom a visit brings something: the same for all visits of one proven address.
ALTER TABLE visit ADD COLUMN actor_id uuid REFERENCES actor;
CREATE INDEX visit_actor ON visit (share_id, recipient) WHERE actor_id IS NOT NULL;

-- Uploads are also of those who have no account; the version that one is to replace is named.
ALTER TABLE upload DROP CONSTRAINT upload_person_id_fkey;
ALTER TABLE upload RENAME COLUMN person_id TO actor_id;
ALTER INDEX upload_person RENAME TO upload_actor;
ALTER TABLE upload ADD FOREIGN KEY (actor_id) REFERENCES actor ON DELETE CASCADE,
  ADD COLUMN share_id uuid REFERENCES share ON DELETE CASCADE,
  ADD COLUMN base_sha256 bytea CHECK (length(base_sha256) = 32);
CREATE INDEX upload_share ON upload (share_id) WHERE share_id IS NOT NULL AND answer IS NULL;

-- What visitors brought into a share, as which version.
CREATE TABLE share_brought (
  version_id  uuid PRIMARY KEY REFERENCES file_version ON DELETE CASCADE,
  share_id    uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  node_id     uuid NOT NULL REFERENCES node,
  visit_id    uuid NOT NULL REFERENCES visit ON DELETE CASCADE,
  at          timestamptz NOT NULL
);
CREATE INDEX share_brought_share ON share_brought (share_id, at);
CREATE INDEX share_brought_node ON share_brought (node_id);
CREATE INDEX share_brought_visit ON share_brought (visit_id);

ALTER TABLE person DROP CONSTRAINT person_notices_check, ADD CONSTRAINT person_notices_check CHECK (notices <@
  ARRAY['share-closing', 'share-opened', 'share-taken', 'share-brought', 'share-used-up', 'share-tried', 'share-barred',
    'server']);
-- What ends a share is told, unless somebody says otherwise.
ALTER TABLE person ALTER COLUMN notices SET DEFAULT '{share-closing,share-barred,server}';
UPDATE person SET notices = array_append(notices, 'share-barred');
-- When a visit first brought something.
ALTER TABLE visit ADD COLUMN brought_at timestamptz;

-- What shares of the office (no store), or with an item in a store, keep to.
CREATE TABLE guardrail (
  store_id    uuid REFERENCES store ON DELETE CASCADE,
  rules       jsonb NOT NULL,
  changed_at  timestamptz NOT NULL,
  UNIQUE NULLS NOT DISTINCT (store_id)
);
-- How hard its password is to guess (zxcvbn, 0 to 4), where somebody typed it.
ALTER TABLE share ADD COLUMN password_score smallint CHECK (password_score BETWEEN 0 AND 4),
  -- Since when a rule keeps it closed, and which.
  ADD COLUMN barred_at timestamptz, ADD COLUMN barred_by text, ADD CHECK ((barred_at IS NULL) = (barred_by IS NULL)),
  -- Whether it has been looked at by the rules as they stand, and as it stands.
  ADD COLUMN judged boolean NOT NULL DEFAULT true;
CREATE INDEX share_unjudged ON share (id) WHERE NOT judged;

CREATE FUNCTION share_item_moved() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  UPDATE share SET judged = false FROM (SELECT s.id FROM share s JOIN share_item i ON i.share_id = s.id
    WHERE i.node_id = NEW.id ORDER BY s.id FOR NO KEY UPDATE OF s) held WHERE share.id = held.id;
  RETURN NULL;
END $$;
CREATE TRIGGER share_item_moved AFTER UPDATE OF store_id ON node FOR EACH ROW
  WHEN (OLD.store_id IS DISTINCT FROM NEW.store_id) EXECUTE FUNCTION share_item_moved();
CREATE FUNCTION factor_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  -- In one order, as whoever judges them.
  UPDATE share SET judged = false FROM (SELECT id FROM share WHERE created_by = coalesce(NEW.person_id, OLD.person_id)
    ORDER BY id FOR NO KEY UPDATE) held WHERE share.id = held.id;
  RETURN NULL;
END $$;
CREATE TRIGGER factor_judges AFTER INSERT OR UPDATE OF since OR DELETE ON second_factor FOR EACH ROW
  EXECUTE FUNCTION factor_changed();
CREATE FUNCTION share_owner_judges() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  NEW.judged := false;
  RETURN NEW;
END $$;
CREATE TRIGGER share_owner_judges BEFORE UPDATE OF created_by ON share FOR EACH ROW
  WHEN (OLD.created_by IS DISTINCT FROM NEW.created_by) EXECUTE FUNCTION share_owner_judges();
`;
