import { LOCKS } from '../locks.js';

/** What folders weigh, known without walking through them. */
export const WEIGHTS_SCHEMA = `
-- All that is shown in a folder and in the folders in it: live files that are no litter; what is litter, or lies in it,
-- beside. What has changed since stands in weight_change: a folder weighs what both say together. No foreign key: it
-- would hold the folder while this is written, and wait for whoever moves it.
CREATE TABLE folder_weight (
  folder_id     uuid PRIMARY KEY,
  files         bigint NOT NULL,
  bytes         bigint NOT NULL,
  litter_files  bigint NOT NULL,
  litter_bytes  bigint NOT NULL
);
-- That a folder became heavier or lighter, and with it every folder above, up to one that is in the trash. Only rows
-- are added, so that thousands who write into one store never wait for each other; weights_fold takes them up.
CREATE TABLE weight_change (
  id            bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
  folder_id     uuid NOT NULL,
  files         bigint NOT NULL,
  bytes         bigint NOT NULL,
  litter_files  bigint NOT NULL,
  litter_bytes  bigint NOT NULL
);
CREATE TYPE weight AS (files bigint, bytes bigint, litter_files bigint, litter_bytes bigint);

-- What an item adds to the folder it lies in: a file itself, a folder what has been taken up of what is in it. What
-- has not climbs from there by itself, and so goes the way that the folder went.
CREATE FUNCTION weight_of(item node) RETURNS weight LANGUAGE plpgsql STABLE AS $$
DECLARE
  inside folder_weight;
BEGIN
  IF item.trashed_at IS NOT NULL THEN RETURN ROW(0, 0, 0, 0)::weight; END IF;
  IF item.kind = 'file' THEN
    IF item.litter THEN RETURN ROW(0, 0, 1, item.size_bytes)::weight; END IF;
    RETURN ROW(1, item.size_bytes, 0, 0)::weight;
  END IF;
  SELECT * INTO inside FROM folder_weight WHERE folder_id = item.id;
  IF NOT FOUND THEN RETURN ROW(0, 0, 0, 0)::weight; END IF;
  IF item.litter THEN
    RETURN ROW(0, 0, inside.files + inside.litter_files, inside.bytes + inside.litter_bytes)::weight;
  END IF;
  RETURN ROW(inside.files, inside.bytes, inside.litter_files, inside.litter_bytes)::weight;
END $$;

CREATE FUNCTION nodes_came() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  INSERT INTO weight_change (folder_id, files, bytes, litter_files, litter_bytes)
    SELECT parent_id, count(*) FILTER (WHERE NOT litter), coalesce(sum(size_bytes) FILTER (WHERE NOT litter), 0),
           count(*) FILTER (WHERE litter), coalesce(sum(size_bytes) FILTER (WHERE litter), 0)
      FROM came WHERE kind = 'file' AND trashed_at IS NULL GROUP BY parent_id;
  RETURN NULL;
END $$;
CREATE TRIGGER node_came_weighs AFTER INSERT ON node REFERENCING NEW TABLE AS came
  FOR EACH STATEMENT EXECUTE FUNCTION nodes_came();

-- A folder that goes elsewhere, into the trash or out of it takes along what it weighs. While its transaction lasts
-- nothing is taken up, or what is would climb the way that the folder has left. No nested loop: a plan that a session
-- made for one item would compare each of 100,000 with each.
CREATE FUNCTION nodes_changed() RETURNS trigger LANGUAGE plpgsql SET enable_nestloop = off AS $$
BEGIN
  IF EXISTS (SELECT 1 FROM was JOIN is_now USING (id) WHERE is_now.kind = 'folder'
      AND (was.parent_id, was.litter, was.trashed_at IS NULL) IS DISTINCT FROM (is_now.parent_id, is_now.litter,
        is_now.trashed_at IS NULL)) THEN
    PERFORM pg_advisory_xact_lock_shared(${LOCKS.weights});
  END IF;
  INSERT INTO weight_change (folder_id, files, bytes, litter_files, litter_bytes)
    SELECT folder_id, sum(files), sum(bytes), sum(litter_files), sum(litter_bytes) FROM (
      SELECT change.folder_id, change.sign * (w).files AS files, change.sign * (w).bytes AS bytes,
             change.sign * (w).litter_files AS litter_files, change.sign * (w).litter_bytes AS litter_bytes
        FROM was JOIN is_now USING (id)
        CROSS JOIN LATERAL (VALUES (was.parent_id, -1, was::node),
          (is_now.parent_id, 1, is_now::node)) AS change (folder_id, sign, item)
        CROSS JOIN LATERAL weight_of(change.item) AS w
       WHERE change.folder_id IS NOT NULL
         AND (was.parent_id, was.litter, was.trashed_at IS NULL, was.size_bytes)
             IS DISTINCT FROM (is_now.parent_id, is_now.litter, is_now.trashed_at IS NULL, is_now.size_bytes)
    ) changes GROUP BY folder_id
    HAVING (sum(files), sum(bytes), sum(litter_files), sum(litter_bytes)) <> (0, 0, 0, 0);
  RETURN NULL;
END $$;
CREATE TRIGGER node_changed_weighs AFTER UPDATE ON node REFERENCING OLD TABLE AS was NEW TABLE AS is_now
  FOR EACH STATEMENT EXECUTE FUNCTION nodes_changed();

CREATE FUNCTION nodes_went() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF EXISTS (SELECT 1 FROM went WHERE kind = 'folder')
    THEN PERFORM pg_advisory_xact_lock_shared(${LOCKS.weights}); END IF;
  INSERT INTO weight_change (folder_id, files, bytes, litter_files, litter_bytes)
    SELECT went.parent_id, -sum((w).files), -sum((w).bytes), -sum((w).litter_files), -sum((w).litter_bytes)
      FROM went CROSS JOIN LATERAL weight_of(went::node) AS w WHERE went.parent_id IS NOT NULL GROUP BY went.parent_id;
  DELETE FROM folder_weight WHERE folder_id IN (SELECT id FROM went);
  RETURN NULL;
END $$;
CREATE TRIGGER node_went_weighs AFTER DELETE ON node REFERENCING OLD TABLE AS went
  FOR EACH STATEMENT EXECUTE FUNCTION nodes_went();

-- Takes up changes, the oldest first: each climbs through the folders as they lie now. One at a time, and not while a
-- folder is being moved: then it is done the next time. Returns how many were taken up.
CREATE FUNCTION weights_fold(at_most integer) RETURNS integer LANGUAGE plpgsql AS $$
DECLARE
  taken integer;
BEGIN
  IF NOT pg_try_advisory_xact_lock(${LOCKS.weights}) THEN RETURN 0; END IF;
  WITH RECURSIVE gone AS (
    DELETE FROM weight_change WHERE id IN (SELECT id FROM weight_change ORDER BY id LIMIT at_most) RETURNING *
  ), up AS (
    SELECT folder_id AS id, sum(files) AS files, sum(bytes) AS bytes, sum(litter_files) AS litter_files,
      sum(litter_bytes) AS litter_bytes
      FROM gone GROUP BY folder_id
    UNION ALL
    SELECT f.parent_id, CASE WHEN f.litter THEN 0 ELSE up.files END, CASE WHEN f.litter THEN 0 ELSE up.bytes END,
           up.litter_files + CASE WHEN f.litter THEN up.files ELSE 0 END,
             up.litter_bytes + CASE WHEN f.litter THEN up.bytes ELSE 0 END
      FROM up CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = up.id OFFSET 0) f
     WHERE f.trashed_at IS NULL AND f.parent_id IS NOT NULL
  ), kept AS (
    INSERT INTO folder_weight AS w (folder_id, files, bytes, litter_files, litter_bytes)
      SELECT up.id, sum(files), sum(bytes), sum(litter_files), sum(litter_bytes) FROM up JOIN node n ON n.id = up.id
        GROUP BY up.id
      ON CONFLICT (folder_id) DO UPDATE SET files = w.files + excluded.files, bytes = w.bytes + excluded.bytes,
        litter_files = w.litter_files + excluded.litter_files, litter_bytes = w.litter_bytes + excluded.litter_bytes
  ) SELECT count(*) INTO taken FROM gone;
  RETURN taken;
END $$;

-- What is there already.
INSERT INTO weight_change (folder_id, files, bytes, litter_files, litter_bytes)
  SELECT parent_id, count(*) FILTER (WHERE NOT litter), coalesce(sum(size_bytes) FILTER (WHERE NOT litter), 0),
         count(*) FILTER (WHERE litter), coalesce(sum(size_bytes) FILTER (WHERE litter), 0)
    FROM node WHERE kind = 'file' AND trashed_at IS NULL GROUP BY parent_id;
SELECT weights_fold(2147483647);
CREATE INDEX node_brought_unaccepted ON node (brought_by) WHERE accepted_at IS NULL AND kind = 'file'
  AND trashed_at IS NULL;
`;
