/**
 * What a statement changed, found by set difference: hashed or sorted in any plan. A join of the rows before with the
 * rows after is planned once by a session, perhaps for one row, and then compares each of 20,000 with each.
 */
export const DIFFERENCE_SCHEMA = `
-- Asked for each version that is removed: without it all items are read for each.
CREATE INDEX node_of_version ON node (version_id) WHERE version_id IS NOT NULL;

CREATE OR REPLACE FUNCTION nodes_change_store() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF NOT EXISTS (SELECT id, store_id FROM was EXCEPT SELECT id, store_id FROM is_now) THEN RETURN NULL; END IF;
  PERFORM store_blobs_drop(ARRAY(
    SELECT ROW(left_it.store_id, v.sha256, min(v.size_bytes), count(*), NULL)::blob_change
      FROM (SELECT id, store_id FROM was EXCEPT SELECT id, store_id FROM is_now) left_it
      CROSS JOIN LATERAL (SELECT * FROM file_version o WHERE o.node_id = left_it.id OFFSET 0) v
     GROUP BY left_it.store_id, v.sha256 ORDER BY left_it.store_id, v.sha256));
  PERFORM store_blobs_add(ARRAY(
    SELECT ROW(joined_it.store_id, v.sha256, min(v.size_bytes), count(*), (array_agg(v.charged_to))[1])::blob_change
      FROM (SELECT id, store_id FROM is_now EXCEPT SELECT id, store_id FROM was) joined_it
      CROSS JOIN LATERAL (SELECT * FROM file_version o WHERE o.node_id = joined_it.id OFFSET 0) v
     GROUP BY joined_it.store_id, v.sha256), false);
  RETURN NULL;
END $$;

CREATE OR REPLACE FUNCTION shares_rooted() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM shares_ask_again(ARRAY(
    SELECT DISTINCT p.share_id
      FROM (SELECT folder_id, root FROM is_now EXCEPT SELECT folder_id, root FROM was) rooted
      CROSS JOIN LATERAL (SELECT * FROM share_path s WHERE s.above_id = rooted.folder_id OFFSET 0) p));
  RETURN NULL;
END $$;

-- The same is true of tables: for one row and a small table a session keeps a plan that reads the table whole.
ALTER FUNCTION versions_came() SET enable_seqscan = off;
ALTER FUNCTION versions_went() SET enable_seqscan = off;
ALTER FUNCTION nodes_change_store() SET enable_seqscan = off;
ALTER FUNCTION shares_rooted() SET enable_seqscan = off;
ALTER FUNCTION store_blobs_add(blob_change[], boolean) SET enable_seqscan = off;
ALTER FUNCTION store_blobs_drop(blob_change[]) SET enable_seqscan = off;

-- As before, but that each folder below is asked for its own root instead of being looked for among all that have that
-- root.
CREATE OR REPLACE FUNCTION access_reroot(folder uuid) RETURNS integer LANGUAGE plpgsql SET enable_seqscan = off AS $$
DECLARE
  was integer;
  wanted integer;
  above uuid;
BEGIN
  SELECT root INTO was FROM folder_access WHERE folder_id = folder;
  IF access_is_root(folder) THEN
    INSERT INTO access_root (folder_id, lies_in) SELECT id, parent_id FROM node WHERE id = folder
      ON CONFLICT (folder_id) DO UPDATE SET lies_in = excluded.lies_in;
    SELECT id INTO wanted FROM access_root WHERE folder_id = folder;
  ELSE
    SELECT parent_id INTO above FROM node WHERE id = folder;
    SELECT root INTO wanted FROM folder_access WHERE folder_id = above;
    -- A folder above that was written later in the same statement.
    IF wanted IS NULL THEN wanted := access_reroot(above); END IF;
  END IF;
  IF was IS NULL THEN
    INSERT INTO folder_access (folder_id, root) VALUES (folder, wanted);
  ELSIF was <> wanted THEN
    WITH RECURSIVE down AS (
      SELECT folder AS id
      UNION ALL
      SELECT n.id FROM down
        CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.parent_id = down.id AND c.kind = 'folder' OFFSET 0) n
        CROSS JOIN LATERAL (SELECT * FROM folder_access a WHERE a.folder_id = n.id OFFSET 0) has
       WHERE has.root = was
    ) UPDATE folder_access SET root = wanted WHERE folder_id = ANY(ARRAY(SELECT id FROM down));
    DELETE FROM access_root r WHERE r.id = was AND r.folder_id = folder;
  END IF;
  RETURN wanted;
END $$;
`;
