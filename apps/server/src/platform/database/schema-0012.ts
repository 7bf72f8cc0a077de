/** What stores use and what items were, counted once for each statement instead of once for each row. */
export const COUNTING_SCHEMA = `
-- All versions of a store, whatever they share; what it uses counts each blob once.
ALTER TABLE store ADD COLUMN versions bigint NOT NULL DEFAULT 0, ADD COLUMN version_bytes bigint NOT NULL DEFAULT 0;
UPDATE store s SET versions = c.versions, version_bytes = c.bytes FROM (
  SELECT store_id, sum(refs) AS versions, sum(refs * size_bytes) AS bytes FROM store_blob GROUP BY store_id
) c WHERE c.store_id = s.id;

-- One change of what stores refer to: so many versions of a blob more or fewer, and who pays if it is new there.
CREATE TYPE blob_change AS (store_id uuid, sha256 bytea, size_bytes bigint, refs integer, person_id uuid);

-- Quotas hold whoever adds and in whatever way: what would pass one is refused where it is counted. What was over it
-- before, because the quota was lowered, stays, and may become less. Each of the two takes what it counts in one order.
CREATE FUNCTION store_blobs_add(changes blob_change[], person_too boolean) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
  fresh blob_change[];
  passed boolean;
BEGIN
  WITH kept AS (
    INSERT INTO store_blob AS b (store_id, sha256, size_bytes, person_id, refs)
      SELECT store_id, sha256, size_bytes, person_id, refs FROM unnest(changes) ORDER BY store_id, sha256
      ON CONFLICT (store_id, sha256) DO UPDATE SET refs = b.refs + excluded.refs
      RETURNING store_id, sha256, size_bytes, refs, person_id, xmax = 0 AS is_new
  ) SELECT array_agg(ROW(store_id, sha256, size_bytes, refs, person_id)::blob_change) FILTER (WHERE is_new) INTO fresh
    FROM kept;
  WITH counted AS (
    UPDATE store s SET used_bytes = s.used_bytes + c.used, versions = s.versions + c.versions,
      version_bytes = s.version_bytes + c.bytes
      FROM (SELECT a.store_id, sum(a.refs) AS versions, sum(a.refs * a.size_bytes) AS bytes,
                   coalesce((SELECT sum(f.size_bytes) FROM unnest(fresh) f WHERE f.store_id = a.store_id), 0) AS used
              FROM unnest(changes) a GROUP BY a.store_id) c
     WHERE s.id = c.store_id RETURNING s.used_bytes > s.quota_bytes AND c.used > 0 AS it
  ) SELECT bool_or(it) INTO passed FROM counted;
  IF passed THEN RAISE EXCEPTION 'quota.store' USING ERRCODE = 'QU507'; END IF;
  WITH counted AS (
    UPDATE person p SET used_bytes = p.used_bytes + c.used
      FROM (SELECT person_id, sum(size_bytes) AS used FROM unnest(fresh) WHERE person_id IS NOT NULL
        GROUP BY person_id) c
     WHERE p.id = c.person_id RETURNING p.used_bytes > p.quota_bytes AND c.used > 0 AS it
  ) SELECT bool_or(it) INTO passed FROM counted;
  IF passed AND person_too THEN RAISE EXCEPTION 'quota.person' USING ERRCODE = 'QU507'; END IF;
END $$;

CREATE FUNCTION store_blobs_drop(changes blob_change[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
  gone blob_change[];
BEGIN
  -- Held in one order, and only then made fewer.
  PERFORM 1 FROM unnest(changes) c CROSS JOIN LATERAL (
    SELECT 1 FROM store_blob b WHERE b.store_id = c.store_id AND b.sha256 = c.sha256 OFFSET 0 FOR UPDATE) held;
  WITH less AS (
    SELECT b.store_id, b.sha256, b.size_bytes, b.refs, b.person_id, c.refs AS fewer
      FROM unnest(changes) c CROSS JOIN LATERAL (
        SELECT * FROM store_blob b WHERE b.store_id = c.store_id AND b.sha256 = c.sha256 OFFSET 0) b
  ), dropped AS (
    DELETE FROM store_blob b USING less WHERE b.store_id = less.store_id AND b.sha256 = less.sha256
      AND less.refs <= less.fewer
    RETURNING less.*
  ), made_fewer AS (
    UPDATE store_blob b SET refs = b.refs - less.fewer FROM less
     WHERE b.store_id = less.store_id AND b.sha256 = less.sha256 AND less.refs > less.fewer
  ) SELECT array_agg(ROW(store_id, sha256, size_bytes, refs, person_id)::blob_change) INTO gone FROM dropped;
  UPDATE store s SET used_bytes = s.used_bytes - c.used, versions = s.versions - c.versions,
    version_bytes = s.version_bytes - c.bytes
    FROM (SELECT a.store_id, sum(a.refs) AS versions, sum(a.refs * a.size_bytes) AS bytes,
                 coalesce((SELECT sum(g.size_bytes) FROM unnest(gone) g WHERE g.store_id = a.store_id), 0) AS used
            FROM unnest(changes) a GROUP BY a.store_id) c
   WHERE s.id = c.store_id;
  UPDATE person p SET used_bytes = p.used_bytes - c.used
    FROM (SELECT person_id, sum(size_bytes) AS used FROM unnest(gone) WHERE person_id IS NOT NULL GROUP BY person_id) c
   WHERE p.id = c.person_id;
END $$;

DROP TRIGGER file_version_counted ON file_version;
CREATE FUNCTION versions_came() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM store_blobs_add(ARRAY(
    SELECT ROW(n.store_id, v.sha256, min(v.size_bytes), count(*), (array_agg(v.charged_to))[1])::blob_change
      FROM came v CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = v.node_id OFFSET 0) n
        GROUP BY n.store_id, v.sha256), true);
  RETURN NULL;
END $$;
CREATE TRIGGER versions_came_count AFTER INSERT ON file_version REFERENCING NEW TABLE AS came
  FOR EACH STATEMENT EXECUTE FUNCTION versions_came();
CREATE FUNCTION versions_went() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM store_blobs_drop(ARRAY(
    SELECT ROW(n.store_id, v.sha256, min(v.size_bytes), count(*), NULL)::blob_change
      FROM went v CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = v.node_id OFFSET 0) n
     GROUP BY n.store_id, v.sha256 ORDER BY n.store_id, v.sha256));
  RETURN NULL;
END $$;
CREATE TRIGGER versions_went_count AFTER DELETE ON file_version REFERENCING OLD TABLE AS went
  FOR EACH STATEMENT EXECUTE FUNCTION versions_went();

-- What moves into another store takes its versions along; it adds nothing to what whoever pays for them brought.
DROP TRIGGER node_moved_between_stores ON node;
CREATE FUNCTION nodes_change_store() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  moved uuid[] := ARRAY(SELECT id FROM was JOIN is_now USING (id) WHERE was.store_id <> is_now.store_id);
BEGIN
  IF cardinality(moved) = 0 THEN RETURN NULL; END IF;
  PERFORM store_blobs_drop(ARRAY(
    SELECT ROW(was.store_id, v.sha256, min(v.size_bytes), count(*), NULL)::blob_change
      FROM was JOIN file_version v ON v.node_id = was.id WHERE was.id = ANY(moved)
     GROUP BY was.store_id, v.sha256 ORDER BY was.store_id, v.sha256));
  PERFORM store_blobs_add(ARRAY(
    SELECT ROW(n.store_id, v.sha256, min(v.size_bytes), count(*), (array_agg(v.charged_to))[1])::blob_change
      FROM is_now n JOIN file_version v ON v.node_id = n.id WHERE n.id = ANY(moved)
     GROUP BY n.store_id, v.sha256), false);
  RETURN NULL;
END $$;
CREATE TRIGGER nodes_moved_between_stores AFTER UPDATE ON node REFERENCING OLD TABLE AS was NEW TABLE AS is_now
  FOR EACH STATEMENT EXECUTE FUNCTION nodes_change_store();
DROP FUNCTION file_version_counts, node_changes_store, store_blob_add, store_blob_drop;

-- The past of what comes begins with it.
DROP TRIGGER node_remembers ON node;
CREATE TRIGGER node_remembers AFTER UPDATE ON node FOR EACH ROW EXECUTE FUNCTION node_remember();
CREATE FUNCTION nodes_begin() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  INSERT INTO node_past (node_id, parent_id, kind, name, version_id, trashed, inherits, others_rule, since)
    SELECT id, parent_id, kind, name, version_id, trashed_at IS NOT NULL, inherits, others_rule, created_at FROM came;
  RETURN NULL;
END $$;
CREATE TRIGGER nodes_began AFTER INSERT ON node REFERENCING NEW TABLE AS came FOR EACH STATEMENT
  EXECUTE FUNCTION nodes_begin();
`;
