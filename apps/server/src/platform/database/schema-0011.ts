import { actBits } from '@quay/core';

/**
 * What stands against a share is known without walking up from every item: where its items lie, and why it is broken.
 * No foreign keys to items: they would wait for whoever moves them.
 */
export const STANDING_SCHEMA = `
-- The roots on which somebody may publish; null: to be worked out.
ALTER TABLE access_reach_state ADD COLUMN publishable integer[];

-- Each item of a share with itself and every folder above it.
CREATE TABLE share_path (
  above_id  uuid NOT NULL,
  share_id  uuid NOT NULL,
  node_id   uuid NOT NULL,
  PRIMARY KEY (above_id, share_id, node_id)
);
CREATE INDEX share_path_share ON share_path (share_id);
-- A share that has a row here is broken. gone: the cause, an item or a folder above one, is in the trash. barred: the
-- cause, an item, is one that its publisher may not publish. One row for each cause, so that one ends without asking
-- for others.
CREATE TABLE share_fault (
  share_id  uuid NOT NULL,
  kind      text NOT NULL CHECK (kind IN ('gone', 'barred')),
  cause     uuid NOT NULL,
  PRIMARY KEY (share_id, kind, cause)
);
CREATE INDEX share_fault_cause ON share_fault (cause);
-- Homes that items lie in, by their owners: closed to everybody else.
CREATE TABLE share_home (
  share_id  uuid NOT NULL,
  owner_id  uuid NOT NULL,
  PRIMARY KEY (share_id, owner_id)
);

-- Writes down anew where the items of these shares lie.
CREATE FUNCTION shares_place(share_ids uuid[]) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  DELETE FROM share_path WHERE share_id = ANY(share_ids);
  DELETE FROM share_fault WHERE share_id = ANY(share_ids) AND kind = 'gone';
  DELETE FROM share_home WHERE share_id = ANY(share_ids);
  WITH RECURSIVE up AS (
    SELECT i.share_id, i.node_id, i.node_id AS above_id FROM share_item i WHERE i.share_id = ANY(share_ids)
    UNION ALL
    SELECT up.share_id, up.node_id, n.parent_id
      FROM up CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = up.above_id OFFSET 0) n
        WHERE n.parent_id IS NOT NULL
  ) INSERT INTO share_path (above_id, share_id, node_id) SELECT above_id, share_id, node_id FROM up;
  INSERT INTO share_fault (share_id, kind, cause)
    SELECT DISTINCT p.share_id, 'gone', p.above_id
      FROM share_path p CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = p.above_id OFFSET 0) n
     WHERE p.share_id = ANY(share_ids) AND n.trashed_at IS NOT NULL;
  INSERT INTO share_home (share_id, owner_id)
    SELECT DISTINCT i.share_id, s.owner_id
      FROM share_item i CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = i.node_id OFFSET 0) n
        JOIN store s ON s.id = n.store_id
     WHERE i.share_id = ANY(share_ids) AND s.owner_id IS NOT NULL;
END $$;

-- Writes down which items of these shares their publishers may not publish, by what stands in access_reach.
CREATE FUNCTION shares_bar(share_ids uuid[]) RETURNS void LANGUAGE sql AS $$
  WITH barred AS (
    SELECT i.share_id, i.node_id
      FROM share s JOIN share_item i ON i.share_id = s.id
      CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = i.node_id OFFSET 0) n
      LEFT JOIN folder_access f ON f.folder_id = CASE n.kind WHEN 'folder' THEN n.id ELSE n.parent_id END
      LEFT JOIN access_reach a ON a.root = f.root AND a.person_id = s.created_by
     WHERE s.id = ANY(share_ids) AND (coalesce(a.acts, 0) & ${actBits(['publish'])}) = 0
  ), ended AS (
    DELETE FROM share_fault f WHERE f.kind = 'barred' AND f.share_id = ANY(share_ids)
      AND NOT EXISTS (SELECT 1 FROM barred b WHERE b.share_id = f.share_id AND b.node_id = f.cause)
  ) INSERT INTO share_fault (share_id, kind, cause) SELECT share_id, 'barred', node_id FROM barred
    ON CONFLICT DO NOTHING;
$$;

-- Has what stands against these shares worked out anew before anybody is answered: what their publishers reach is as
-- of no state of the facts any more.
CREATE FUNCTION shares_ask_again(share_ids uuid[]) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  UPDATE access_reach_state SET generation = 0, publishable = NULL
   WHERE person_id IN (SELECT created_by FROM share WHERE id = ANY(share_ids));
END $$;

CREATE FUNCTION share_items_came() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  share_ids uuid[] := ARRAY(SELECT DISTINCT share_id FROM came);
BEGIN
  PERFORM shares_place(share_ids);
  PERFORM shares_bar(share_ids);
  RETURN NULL;
END $$;
CREATE TRIGGER share_items_placed AFTER INSERT ON share_item REFERENCING NEW TABLE AS came
  FOR EACH STATEMENT EXECUTE FUNCTION share_items_came();

-- An item of a share, or a folder above one, goes elsewhere, into the trash or out of it.
CREATE FUNCTION shares_follow() RETURNS trigger LANGUAGE plpgsql SET enable_nestloop = off AS $$
DECLARE
  moved uuid[];
  trashed uuid[];
  back uuid[];
  share_ids uuid[];
BEGIN
  SELECT array_agg(id) FILTER (WHERE was.parent_id IS DISTINCT FROM is_now.parent_id),
         array_agg(id) FILTER (WHERE was.trashed_at IS NULL AND is_now.trashed_at IS NOT NULL),
         array_agg(id) FILTER (WHERE was.trashed_at IS NOT NULL AND is_now.trashed_at IS NULL)
    INTO moved, trashed, back FROM was JOIN is_now USING (id);
  IF trashed IS NOT NULL THEN
    INSERT INTO share_fault (share_id, kind, cause)
      SELECT DISTINCT p.share_id, 'gone', p.above_id FROM share_path p WHERE p.above_id = ANY(trashed)
        ON CONFLICT DO NOTHING;
  END IF;
  IF back IS NOT NULL THEN
    DELETE FROM share_fault WHERE kind = 'gone' AND cause = ANY(back);
  END IF;
  IF moved IS NOT NULL THEN
    share_ids := ARRAY(SELECT DISTINCT share_id FROM share_path WHERE above_id = ANY(moved));
    IF cardinality(share_ids) > 0 THEN
      PERFORM shares_place(share_ids);
      PERFORM shares_ask_again(share_ids);
    END IF;
  END IF;
  RETURN NULL;
END $$;
CREATE TRIGGER node_changed_shares AFTER UPDATE ON node REFERENCING OLD TABLE AS was NEW TABLE AS is_now
  FOR EACH STATEMENT EXECUTE FUNCTION shares_follow();

CREATE FUNCTION home_shares_follow() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM shares_place(ARRAY(SELECT DISTINCT p.share_id FROM share_path p JOIN node n ON n.id = p.above_id
    WHERE n.store_id = NEW.id AND n.parent_id IS NULL));
  RETURN NULL;
END $$;
CREATE TRIGGER home_owner_shares AFTER UPDATE OF owner_id ON store FOR EACH ROW
  WHEN (NEW.owner_id IS DISTINCT FROM OLD.owner_id) EXECUTE FUNCTION home_shares_follow();

-- A folder has another root: what is granted there is another thing now.
CREATE FUNCTION shares_rooted() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM shares_ask_again(ARRAY(SELECT DISTINCT p.share_id FROM was JOIN is_now USING (folder_id)
    JOIN share_path p ON p.above_id = is_now.folder_id WHERE was.root <> is_now.root));
  RETURN NULL;
END $$;
CREATE TRIGGER folder_rooted_shares AFTER UPDATE ON folder_access REFERENCING OLD TABLE AS was NEW TABLE AS is_now
  FOR EACH STATEMENT EXECUTE FUNCTION shares_rooted();

-- What somebody reaches has been worked out. Where they may publish at the same roots as before, and no item has
-- another root, nothing is to be done.
CREATE FUNCTION reach_bars_shares() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM shares_bar(ARRAY(SELECT id FROM share WHERE created_by = NEW.person_id));
  RETURN NULL;
END $$;
CREATE TRIGGER reach_worked_out AFTER UPDATE ON access_reach_state FOR EACH ROW
  WHEN (NEW.publishable IS NOT NULL AND NEW.publishable IS DISTINCT FROM OLD.publishable)
    EXECUTE FUNCTION reach_bars_shares();

-- What is there already. What people reach is worked out anew, and with it what they may publish.
SELECT shares_place(ARRAY(SELECT id FROM share));
UPDATE access_state SET generation = generation + 1;

-- The orders in which shares are listed, and the words that they are found by.
ALTER TABLE share ADD COLUMN last_visit_at timestamptz;
UPDATE share s SET last_visit_at = (SELECT max(began_at) FROM visit v WHERE v.share_id = s.id);
CREATE FUNCTION visit_is_last() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  UPDATE share SET last_visit_at = greatest(last_visit_at, NEW.began_at) WHERE id = NEW.share_id;
  RETURN NULL;
END $$;
CREATE TRIGGER visit_last AFTER INSERT ON visit FOR EACH ROW EXECUTE FUNCTION visit_is_last();
DROP INDEX share_creator;
CREATE INDEX share_of ON share (created_by, created_at, id);
CREATE INDEX share_by_made ON share (created_at, id);
CREATE INDEX share_by_end ON share ((coalesce(closes_at, 'infinity')), id);
CREATE INDEX share_by_title ON share (title COLLATE natural_order, id);
CREATE INDEX share_by_visit ON share ((coalesce(last_visit_at, '-infinity')), id);
CREATE INDEX share_find ON share USING gin (lower(title) gin_trgm_ops);
`;
