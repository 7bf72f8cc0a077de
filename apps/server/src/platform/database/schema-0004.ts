/**
 * What must never be, stated by the database: ghosts, branches over two stores, quotas that are passed, room that is
 * never given back.
 */
export const MEND_SCHEMA = `
-- What was removed for good is in the trash for ever: a file that is both purged and live would be listed without
-- bytes.
UPDATE node SET trashed_at = purged_at WHERE purged_at IS NOT NULL AND trashed_at IS NULL;
ALTER TABLE node DROP CONSTRAINT node_purged_is_trashed,
  ADD CONSTRAINT node_purged_is_trashed CHECK (purged_at IS NULL OR (parent_id IS NOT NULL AND trashed_at IS NOT NULL));

-- The capital sharp s is folded as the small one is.
UPDATE node n SET name_key = replace(name_key, 'ß', 'ss') WHERE name LIKE '%ẞ%'
  AND NOT EXISTS (SELECT 1 FROM node o WHERE o.parent_id = n.parent_id AND o.name_key = replace(n.name_key, 'ß', 'ss')
    AND o.trashed_at IS NULL);

-- A branch lies in one store. What was removed for good stays where it last lay, also when the folder above it moves
-- on.
UPDATE node n SET store_id = r.store_id FROM (
  WITH RECURSIVE down AS (
    SELECT id, store_id FROM node WHERE parent_id IS NULL
    UNION ALL SELECT n.id, down.store_id FROM down JOIN node n ON n.parent_id = down.id
  ) SELECT id, store_id FROM down
) r WHERE r.id = n.id AND r.store_id <> n.store_id AND n.purged_at IS NULL;
ALTER TABLE node ADD COLUMN branch_store uuid GENERATED ALWAYS AS (CASE
  WHEN purged_at IS NULL THEN store_id END) STORED;
CREATE UNIQUE INDEX node_in_store ON node (id, store_id);
ALTER TABLE node ADD CONSTRAINT node_branch_has_one_store FOREIGN KEY (parent_id, branch_store)
  REFERENCES node (id, store_id) DEFERRABLE INITIALLY DEFERRED;

-- Quotas hold whoever adds and in whatever way: what would pass one is refused where it is counted. What was over it
-- before, because the quota was lowered, stays, and may become less.
CREATE OR REPLACE FUNCTION store_blob_add(the_store uuid, the_blob bytea, bytes bigint, who uuid,
  person_too boolean DEFAULT true) RETURNS void LANGUAGE plpgsql AS $$
DECLARE fresh boolean; passed boolean;
BEGIN
  INSERT INTO store_blob AS b (store_id, sha256, size_bytes, person_id, refs)
    VALUES (the_store, the_blob, bytes, who, 1)
    ON CONFLICT (store_id, sha256) DO UPDATE SET refs = b.refs + 1 RETURNING refs = 1 INTO fresh;
  IF NOT fresh THEN RETURN; END IF;
  UPDATE store SET used_bytes = used_bytes + bytes WHERE id = the_store RETURNING used_bytes > quota_bytes INTO passed;
  IF passed AND bytes > 0 THEN RAISE EXCEPTION 'quota.store' USING ERRCODE = 'QU507'; END IF;
  UPDATE person SET used_bytes = used_bytes + bytes WHERE id = who RETURNING used_bytes > quota_bytes INTO passed;
  IF passed AND bytes > 0 AND person_too THEN RAISE EXCEPTION 'quota.person' USING ERRCODE = 'QU507'; END IF;
END $$;
DROP FUNCTION store_blob_add(uuid, bytea, bigint, uuid);
CREATE OR REPLACE FUNCTION node_changes_store() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM store_blob_drop(OLD.store_id, v.sha256) FROM file_version v WHERE v.node_id = NEW.id;
  -- Moving adds nothing to what its owner brought.
  PERFORM store_blob_add(NEW.store_id, v.sha256, v.size_bytes, v.created_by, false) FROM file_version v
    WHERE v.node_id = NEW.id;
  RETURN NULL;
END $$;

-- When a visit took everything as one archive.
ALTER TABLE visit ADD COLUMN archive_at timestamptz;

-- Room that is set aside for bytes on their way. A row ends with its upload, or when the process that counts on it has
-- not said for a while that it lives; bytes of it that have been written are seen on the disk itself.
CREATE TABLE room_held (
  id             uuid PRIMARY KEY,
  process        uuid,
  person_id      uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  store_id       uuid NOT NULL REFERENCES store ON DELETE CASCADE,
  upload_id      uuid UNIQUE REFERENCES upload ON DELETE CASCADE,
  held_bytes     bigint NOT NULL CHECK (held_bytes >= 0),
  written_bytes  bigint NOT NULL DEFAULT 0 CHECK (written_bytes >= 0),
  ends_at        timestamptz,
  CHECK ((upload_id IS NULL) = (ends_at IS NOT NULL))
);
INSERT INTO room_held (id, person_id, store_id, upload_id, held_bytes, written_bytes)
  SELECT u.id, u.person_id, n.store_id, u.id, u.offset_bytes, u.offset_bytes FROM upload u
    JOIN node n ON n.id = u.folder_id WHERE u.answer IS NULL;
`;
