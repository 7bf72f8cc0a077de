import { DUTIES, READY_DUTIES } from '@quay/core';

const list = (values: readonly string[]): string => `ARRAY[${values.map((v) => `'${v}'`).join(', ')}]::text[]`;

/**
 * Whoever does something, whatever they are; what accounts may do beside files; and access that tells when it changes.
 */
export const ACTORS_SCHEMA = `
-- Guests have accounts. What an account may do beside files begins with what is ready for its kind.
ALTER TABLE person DROP CONSTRAINT person_role_check,
  ADD CONSTRAINT person_role_check CHECK (role IN ('admin', 'staff', 'guest')),
  ADD COLUMN duties text[] CHECK (duties <@ ${list(DUTIES)});
CREATE FUNCTION person_begins() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  NEW.duties := coalesce(NEW.duties, CASE NEW.role WHEN 'admin' THEN ${list(READY_DUTIES.admin)}
    WHEN 'staff' THEN ${list(READY_DUTIES.staff)} ELSE ${list(READY_DUTIES.guest)} END);
  RETURN NEW;
END $$;
CREATE TRIGGER person_has_duties BEFORE INSERT OR UPDATE OF duties ON person FOR EACH ROW
  EXECUTE FUNCTION person_begins();
UPDATE person SET duties = NULL;
ALTER TABLE person ALTER COLUMN duties SET NOT NULL;
-- Somebody always runs the server: without anybody nothing could be mended.
CREATE FUNCTION somebody_runs_it() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF NOT EXISTS (SELECT 1 FROM person WHERE disabled_at IS NULL AND 'run-server' = ANY(duties)) THEN
    RAISE EXCEPTION 'nobody would be left to run the server' USING ERRCODE = 'QU409';
  END IF;
  RETURN NULL;
END $$;
CREATE CONSTRAINT TRIGGER somebody_runs_it AFTER UPDATE OF duties, disabled_at ON person DEFERRABLE INITIALLY DEFERRED
  FOR EACH ROW WHEN (OLD.disabled_at IS NULL AND 'run-server' = ANY(OLD.duties)) EXECUTE FUNCTION somebody_runs_it();

-- Whoever does something: accounts are actors of the same id; visitors get a row when they bring something.
CREATE TABLE actor (
  id    uuid PRIMARY KEY,
  kind  text NOT NULL CHECK (kind IN ('person', 'guest', 'visitor', 'system')),
  name  text NOT NULL
);
INSERT INTO actor (id, kind, name) SELECT id, 'person', name FROM person;
CREATE FUNCTION person_is_actor() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  INSERT INTO actor (id, kind, name)
    VALUES (NEW.id, CASE NEW.role WHEN 'guest' THEN 'guest' ELSE 'person' END, NEW.name)
    ON CONFLICT (id) DO UPDATE SET kind = excluded.kind, name = excluded.name;
  RETURN NULL;
END $$;
CREATE TRIGGER person_acts AFTER INSERT OR UPDATE OF name, role ON person FOR EACH ROW
  EXECUTE FUNCTION person_is_actor();
ALTER TABLE ledger_entry DROP CONSTRAINT ledger_entry_actor_kind_check,
  ADD CONSTRAINT ledger_entry_actor_kind_check CHECK (actor_kind IN ('person', 'guest', 'visitor', 'system'));
ALTER TABLE node DROP CONSTRAINT node_changed_by_fkey, DROP CONSTRAINT node_trashed_by_fkey,
  DROP CONSTRAINT node_brought_by_fkey,
  ADD FOREIGN KEY (changed_by) REFERENCES actor, ADD FOREIGN KEY (trashed_by) REFERENCES actor,
  ADD FOREIGN KEY (brought_by) REFERENCES actor;

-- A version says whose quota it counts against: of what a visitor brings, somebody of the office.
ALTER TABLE file_version DROP CONSTRAINT file_version_created_by_fkey, ADD FOREIGN KEY (created_by) REFERENCES actor,
  ADD COLUMN charged_to uuid REFERENCES person;
UPDATE file_version SET charged_to = created_by;
CREATE FUNCTION version_is_charged() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  -- Somebody with an account pays for what they bring; who pays for a visitor is said by whoever lets them in.
  IF NEW.charged_to IS NULL THEN
    SELECT id INTO NEW.charged_to FROM person WHERE id = NEW.created_by;
    IF NEW.charged_to IS NULL
      AND NEW.created_by IS NOT NULL THEN RAISE EXCEPTION 'nobody is charged for this version'; END IF;
  END IF;
  RETURN NEW;
END $$;
CREATE TRIGGER version_charged BEFORE INSERT ON file_version FOR EACH ROW EXECUTE FUNCTION version_is_charged();
CREATE OR REPLACE FUNCTION file_version_counts() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'INSERT' THEN
    PERFORM store_blob_add((SELECT store_id FROM node WHERE id = NEW.node_id), NEW.sha256, NEW.size_bytes,
      NEW.charged_to);
  ELSE
    PERFORM store_blob_drop((SELECT store_id FROM node WHERE id = OLD.node_id), OLD.sha256);
  END IF;
  RETURN NULL;
END $$;
CREATE OR REPLACE FUNCTION node_changes_store() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM store_blob_drop(OLD.store_id, v.sha256) FROM file_version v WHERE v.node_id = NEW.id;
  -- Moving adds nothing to what its owner brought.
  PERFORM store_blob_add(NEW.store_id, v.sha256, v.size_bytes, v.charged_to, false) FROM file_version v
    WHERE v.node_id = NEW.id;
  RETURN NULL;
END $$;

-- The store an item was in is told by the folder it was in: a row for each of 100,000 that change store took half a
-- minute.
CREATE OR REPLACE FUNCTION node_remember() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  moment timestamptz := quay_now();
BEGIN
  IF TG_OP = 'INSERT' THEN
    moment := NEW.created_at;
  ELSIF (NEW.parent_id, NEW.name, NEW.version_id, NEW.trashed_at IS NULL, NEW.purged_at, NEW.inherits, NEW.others_rule)
    IS NOT DISTINCT FROM (OLD.parent_id, OLD.name, OLD.version_id, OLD.trashed_at IS NULL, OLD.purged_at, OLD.inherits,
      OLD.others_rule) THEN
    RETURN NULL;
  ELSE
    -- A clock that was put back never makes a stretch that ends before it began.
    UPDATE node_past SET until = greatest(since, moment) WHERE node_id = NEW.id AND until IS NULL
      RETURNING until INTO moment;
    IF NEW.purged_at IS NOT NULL THEN RETURN NULL; END IF;
  END IF;
  INSERT INTO node_past (node_id, parent_id, kind, name, version_id, trashed, inherits, others_rule, since)
    VALUES (NEW.id, NEW.parent_id, NEW.kind, NEW.name, NEW.version_id, NEW.trashed_at IS NOT NULL, NEW.inherits, NEW.others_rule, coalesce(moment, now()));
  RETURN NULL;
END $$;
ALTER TABLE node_past DROP COLUMN store_id;

-- Whoever changes who may what tells of it, in whatever way it is changed: what goes on asks again.
CREATE FUNCTION access_tells() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM pg_notify('quay', '{"topic":"access","id":"changed"}');
  RETURN NULL;
END $$;
CREATE TRIGGER grants_tell AFTER INSERT OR UPDATE ON access_grant FOR EACH STATEMENT EXECUTE FUNCTION access_tells();
CREATE TRIGGER groups_tell AFTER INSERT OR UPDATE ON people_group FOR EACH STATEMENT EXECUTE FUNCTION access_tells();
CREATE TRIGGER memberships_tell AFTER INSERT OR UPDATE ON membership FOR EACH STATEMENT EXECUTE FUNCTION access_tells();
CREATE TRIGGER people_tell AFTER UPDATE OF until ON person_past FOR EACH STATEMENT EXECUTE FUNCTION access_tells();
CREATE TRIGGER owners_tell AFTER UPDATE OF until ON home_owner FOR EACH STATEMENT EXECUTE FUNCTION access_tells();
CREATE TRIGGER folders_tell AFTER UPDATE OF inherits, others_rule ON node FOR EACH ROW
  WHEN ((NEW.inherits, NEW.others_rule) IS DISTINCT FROM (OLD.inherits, OLD.others_rule))
    EXECUTE FUNCTION access_tells();
`;
