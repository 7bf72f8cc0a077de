/** Stores made complete: sort orders, search, the past of every item, quotas, resumable uploads, tasks. */
export const STORES_SCHEMA = `
CREATE EXTENSION IF NOT EXISTS pg_trgm;
-- Names with numbers in the order people count (UTS #35, kn), capitals beside small letters (ks).
CREATE COLLATION natural_order (provider = icu, locale = 'und-u-kn-true-ks-level2');

ALTER TABLE store
  ADD COLUMN used_bytes bigint NOT NULL DEFAULT 0 CHECK (used_bytes >= 0),
  ADD COLUMN quota_bytes bigint CHECK (quota_bytes >= 0),
  ADD COLUMN largest_file_bytes bigint CHECK (largest_file_bytes >= 0),
  ADD COLUMN allowed_types text[] NOT NULL DEFAULT '{}',
  ADD COLUMN versions_kept integer NOT NULL DEFAULT 32 CHECK (versions_kept BETWEEN 1 AND 1000),
  ADD COLUMN thin_after_days integer CHECK (thin_after_days BETWEEN 1 AND 3650),
  ADD COLUMN trash_days integer DEFAULT 90 CHECK (trash_days BETWEEN 1 AND 3650);
ALTER TABLE person
  ADD COLUMN used_bytes bigint NOT NULL DEFAULT 0 CHECK (used_bytes >= 0),
  ADD COLUMN quota_bytes bigint CHECK (quota_bytes >= 0);

ALTER TABLE node ADD COLUMN purged_at timestamptz,
  ADD COLUMN type_key text COLLATE "C" NOT NULL GENERATED ALWAYS AS (coalesce(lower(substring(name from '[.]([^. ]{1,12})$')), '')) STORED;
-- What kind of thing it is, for finding: by extension where no media type is registered.
ALTER TABLE node ADD COLUMN class text COLLATE "C" NOT NULL GENERATED ALWAYS AS (CASE
  WHEN kind = 'folder' THEN 'folder'
  WHEN lower(substring(name from '[.]([^. ]{1,12})$')) IN ('dxf', 'dwg', 'las', 'laz', 'e57', 'ply', 'xyz', 'ifc')
    THEN 'drawing'
  WHEN lower(substring(name from '[.]([^. ]{1,12})$')) IN ('zip', '7z', 'gz', 'tar', 'rar', 'xz', 'bz2') THEN 'archive'
  WHEN media_type = 'application/pdf' THEN 'pdf'
  WHEN media_type LIKE 'image/%' THEN 'image'
  WHEN media_type LIKE 'text/%' THEN 'text'
  WHEN media_type LIKE 'audio/%' THEN 'audio'
  WHEN media_type LIKE 'video/%' THEN 'video'
  ELSE 'other' END) STORED;
ALTER TABLE node DROP CONSTRAINT node_check, ADD CONSTRAINT node_file_has_version
  CHECK ((kind = 'file' AND purged_at IS NULL) = (version_id IS NOT NULL));
ALTER TABLE node ADD CONSTRAINT node_purged_is_trashed CHECK (purged_at IS NULL OR parent_id IS NOT NULL);
DROP INDEX node_listing;
CREATE INDEX node_by_name ON node (parent_id, sort_kind, name COLLATE natural_order, id) WHERE trashed_at IS NULL;
CREATE INDEX node_by_size ON node (parent_id, sort_kind, size_bytes, id) WHERE trashed_at IS NULL;
CREATE INDEX node_by_change ON node (parent_id, sort_kind, changed_at, id) WHERE trashed_at IS NULL;
CREATE INDEX node_by_type ON node (parent_id, sort_kind, type_key, name COLLATE natural_order, id)
  WHERE trashed_at IS NULL;
CREATE INDEX node_children ON node (parent_id);
CREATE INDEX node_search ON node USING gin (name_key gin_trgm_ops) WHERE trashed_at IS NULL;
CREATE INDEX node_prefix ON node (name_key) WHERE trashed_at IS NULL;
CREATE INDEX node_recent ON node (store_id, changed_at DESC) WHERE kind = 'file' AND trashed_at IS NULL;
CREATE INDEX node_of_class ON node (store_id, class, changed_at DESC) WHERE trashed_at IS NULL;
CREATE INDEX node_largest ON node (store_id, size_bytes DESC) WHERE kind = 'file' AND trashed_at IS NULL;
CREATE INDEX node_changer ON node (changed_by, changed_at DESC) WHERE trashed_at IS NULL;
CREATE INDEX node_litter ON node (store_id) WHERE litter AND trashed_at IS NULL;

ALTER TABLE file_version ADD COLUMN kept boolean NOT NULL DEFAULT false;
ALTER TABLE blob ADD COLUMN checked_at timestamptz, ADD COLUMN damaged_at timestamptz;
CREATE INDEX blob_to_check ON blob (checked_at NULLS FIRST);
CREATE INDEX blob_damaged ON blob (damaged_at) WHERE damaged_at IS NOT NULL;

-- Where every item was, and which version it had, from when until when (half-open); the present has no end.
CREATE TABLE node_past (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  node_id     uuid NOT NULL,
  store_id    uuid NOT NULL,
  parent_id   uuid,
  kind        text NOT NULL,
  name        text NOT NULL,
  version_id  uuid,
  trashed     boolean NOT NULL,
  since       timestamptz NOT NULL,
  until       timestamptz,
  CHECK (until >= since)
);
CREATE INDEX node_past_folder ON node_past (parent_id, since);
CREATE UNIQUE INDEX node_past_present ON node_past (node_id) WHERE until IS NULL;
CREATE INDEX node_past_node ON node_past (node_id, since);

CREATE FUNCTION node_remember() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  moment timestamptz := coalesce(nullif(current_setting('quay.now', true), '')::timestamptz, now());
BEGIN
  IF TG_OP = 'INSERT' THEN
    moment := NEW.created_at;
  ELSIF (NEW.parent_id, NEW.store_id, NEW.name, NEW.version_id, NEW.trashed_at IS NULL,
    NEW.purged_at) IS NOT DISTINCT FROM (OLD.parent_id, OLD.store_id, OLD.name, OLD.version_id, OLD.trashed_at IS NULL,
    OLD.purged_at) THEN
    RETURN NULL;
  ELSE
    -- A clock that was put back never makes a stretch that ends before it began.
    UPDATE node_past SET until = greatest(since, moment) WHERE node_id = NEW.id AND until IS NULL
      RETURNING until INTO moment;
    IF NEW.purged_at IS NOT NULL THEN RETURN NULL; END IF;
  END IF;
  INSERT INTO node_past (node_id, store_id, parent_id, kind, name, version_id, trashed, since)
    VALUES (NEW.id, NEW.store_id, NEW.parent_id, NEW.kind, NEW.name, NEW.version_id, NEW.trashed_at IS NOT NULL, coalesce(moment, now()));
  RETURN NULL;
END $$;
CREATE TRIGGER node_remembers AFTER INSERT OR UPDATE ON node FOR EACH ROW EXECUTE FUNCTION node_remember();
INSERT INTO node_past (node_id, store_id, parent_id, kind, name, version_id, trashed, since)
  SELECT id, store_id, parent_id, kind, name, version_id, trashed_at IS NOT NULL, created_at FROM node;

-- Quotas count each blob once per store, to whoever brought it there first.
CREATE TABLE store_blob (
  store_id    uuid NOT NULL REFERENCES store ON DELETE CASCADE,
  sha256      bytea NOT NULL,
  size_bytes  bigint NOT NULL,
  person_id   uuid REFERENCES person,
  refs        integer NOT NULL CHECK (refs >= 1),
  PRIMARY KEY (store_id, sha256)
);
CREATE FUNCTION store_blob_add(the_store uuid, the_blob bytea, bytes bigint,
  who uuid) RETURNS void LANGUAGE plpgsql AS $$
DECLARE fresh boolean;
BEGIN
  INSERT INTO store_blob AS b (store_id, sha256, size_bytes, person_id, refs)
    VALUES (the_store, the_blob, bytes, who, 1)
    ON CONFLICT (store_id, sha256) DO UPDATE SET refs = b.refs + 1 RETURNING refs = 1 INTO fresh;
  IF fresh THEN
    UPDATE store SET used_bytes = used_bytes + bytes WHERE id = the_store;
    UPDATE person SET used_bytes = used_bytes + bytes WHERE id = who;
  END IF;
END $$;
CREATE FUNCTION store_blob_drop(the_store uuid, the_blob bytea) RETURNS void LANGUAGE plpgsql AS $$
DECLARE gone store_blob;
BEGIN
  DELETE FROM store_blob WHERE store_id = the_store AND sha256 = the_blob AND refs = 1 RETURNING * INTO gone;
  IF FOUND THEN
    UPDATE store SET used_bytes = used_bytes - gone.size_bytes WHERE id = the_store;
    UPDATE person SET used_bytes = used_bytes - gone.size_bytes WHERE id = gone.person_id;
  ELSE
    UPDATE store_blob SET refs = refs - 1 WHERE store_id = the_store AND sha256 = the_blob;
  END IF;
END $$;
CREATE FUNCTION file_version_counts() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'INSERT' THEN
    PERFORM store_blob_add((SELECT store_id FROM node WHERE id = NEW.node_id), NEW.sha256, NEW.size_bytes,
      NEW.created_by);
  ELSE
    PERFORM store_blob_drop((SELECT store_id FROM node WHERE id = OLD.node_id), OLD.sha256);
  END IF;
  RETURN NULL;
END $$;
CREATE TRIGGER file_version_counted AFTER INSERT OR DELETE ON file_version FOR EACH ROW
  EXECUTE FUNCTION file_version_counts();
CREATE FUNCTION node_changes_store() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM store_blob_drop(OLD.store_id, v.sha256) FROM file_version v WHERE v.node_id = NEW.id;
  PERFORM store_blob_add(NEW.store_id, v.sha256, v.size_bytes, v.created_by) FROM file_version v
    WHERE v.node_id = NEW.id;
  RETURN NULL;
END $$;
CREATE TRIGGER node_moved_between_stores AFTER UPDATE OF store_id ON node
  FOR EACH ROW WHEN (OLD.store_id <> NEW.store_id) EXECUTE FUNCTION node_changes_store();
DO $$
BEGIN
  PERFORM store_blob_add(n.store_id, v.sha256, v.size_bytes, v.created_by) FROM file_version v
    JOIN node n ON n.id = v.node_id ORDER BY v.created_at;
END $$;

CREATE TABLE usage_sample (
  store_id    uuid NOT NULL REFERENCES store ON DELETE CASCADE,
  day         date NOT NULL,
  used_bytes  bigint NOT NULL CHECK (used_bytes >= 0),
  PRIMARY KEY (store_id, day)
);

CREATE TABLE upload (
  id            uuid PRIMARY KEY,
  person_id     uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  folder_id     uuid NOT NULL REFERENCES node,
  name          text NOT NULL,
  conflict      text NOT NULL CHECK (conflict IN ('refuse', 'version', 'keep-both')),
  modified_at   timestamptz,
  size_bytes    bigint NOT NULL CHECK (size_bytes >= 0),
  offset_bytes  bigint NOT NULL DEFAULT 0 CHECK (offset_bytes BETWEEN 0 AND size_bytes),
  writer        uuid,
  created_at    timestamptz NOT NULL,
  touched_at    timestamptz NOT NULL,
  answer        jsonb
);
CREATE INDEX upload_person ON upload (person_id);
CREATE INDEX upload_touched ON upload (touched_at);
CREATE TABLE upload_batch (
  id         uuid PRIMARY KEY,
  person_id  uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  answer     jsonb NOT NULL,
  at         timestamptz NOT NULL
);

CREATE TABLE pin (
  person_id  uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  node_id    uuid NOT NULL REFERENCES node,
  at         timestamptz NOT NULL,
  PRIMARY KEY (person_id, node_id)
);
CREATE TABLE tag (
  id      uuid PRIMARY KEY,
  name    text NOT NULL CHECK (length(name) BETWEEN 1 AND 40),
  colour  text NOT NULL CHECK (colour IN ('ink', 'tide', 'buoy', 'lamp', 'flare', 'stone'))
);
CREATE UNIQUE INDEX tag_name ON tag (lower(name));
CREATE TABLE node_tag (
  node_id  uuid NOT NULL REFERENCES node,
  tag_id   uuid NOT NULL REFERENCES tag ON DELETE CASCADE,
  PRIMARY KEY (node_id, tag_id)
);
CREATE INDEX node_tag_tag ON node_tag (tag_id);

-- What was made of a blob for looking at it: thumbnails and pages lie beside the blobs, named by its hash.
CREATE TABLE preview (
  sha256   bytea PRIMARY KEY,
  state    text NOT NULL CHECK (state IN ('ready', 'none')),
  pages    integer,
  width    integer,
  height   integer,
  words    tsvector,
  made_at  timestamptz NOT NULL
);
CREATE INDEX preview_words ON preview USING gin (words) WHERE words IS NOT NULL;

CREATE TABLE task (
  id          uuid PRIMARY KEY,
  kind        text NOT NULL CHECK (kind IN ('import', 'export', 'scrub')),
  asked_by    uuid REFERENCES person,
  detail      jsonb NOT NULL,
  state       text NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped')),
  progress    jsonb NOT NULL DEFAULT '{}',
  report      jsonb,
  created_at  timestamptz NOT NULL,
  beat_at     timestamptz,
  ended_at    timestamptz
);
CREATE INDEX task_open ON task (created_at) WHERE state IN ('waiting', 'running');
`;
