/**
 * What each person reaches, worked out once for each state of the facts: a number for every root, and the acts there.
 */
export const REACH_OF_SCHEMA = `
-- Rises with every change that access depends on, in the transaction that makes it.
CREATE TABLE access_state (
  id          smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  generation  bigint NOT NULL
);
INSERT INTO access_state (generation) VALUES (1);
CREATE FUNCTION access_changes() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  UPDATE access_state SET generation = generation + 1;
  RETURN NULL;
END $$;
CREATE TRIGGER grants_change_access AFTER INSERT OR UPDATE ON access_grant FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();
CREATE TRIGGER groups_change_access AFTER INSERT OR UPDATE ON people_group FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();
CREATE TRIGGER memberships_change_access AFTER INSERT OR UPDATE ON membership FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();
CREATE TRIGGER people_change_access AFTER INSERT OR UPDATE ON person_past FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();
CREATE TRIGGER owners_change_access AFTER INSERT OR UPDATE ON home_owner FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();
CREATE TRIGGER roots_change_access AFTER INSERT OR DELETE ON access_root FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();
-- What takes nothing over, a rule for contributors, and which root lies above which.
CREATE TRIGGER folders_change_access AFTER UPDATE OF parent_id, inherits, others_rule ON node FOR EACH ROW
  WHEN (NEW.kind = 'folder'
    AND (NEW.parent_id, NEW.inherits, NEW.others_rule) IS DISTINCT FROM (OLD.parent_id, OLD.inherits, OLD.others_rule))
  EXECUTE FUNCTION access_changes();

-- The acts as bits, in the order of ACTS in core. A root that is not there is not reached.
CREATE TABLE access_reach (
  person_id  uuid NOT NULL REFERENCES person,
  root       integer NOT NULL REFERENCES access_root ON DELETE CASCADE,
  acts       smallint NOT NULL,
  own        smallint NOT NULL,
  PRIMARY KEY (person_id, root)
);
CREATE INDEX access_reach_root ON access_reach (root);
-- Of which state of the facts somebody's rows are, and from when until when they hold.
CREATE TABLE access_reach_state (
  person_id    uuid PRIMARY KEY REFERENCES person,
  generation   bigint NOT NULL,
  since        timestamptz NOT NULL,
  valid_until  timestamptz
);

-- Whoever made an item brought it, and somebody else's version accepts it: no writer can forget.
CREATE FUNCTION node_is_brought() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'INSERT' THEN
    NEW.brought_by := coalesce(NEW.brought_by, NEW.changed_by);
  ELSIF NEW.brought_by IS DISTINCT FROM OLD.brought_by THEN
    RAISE EXCEPTION 'who brought an item is never changed';
  END IF;
  RETURN NEW;
END $$;
CREATE TRIGGER node_brought BEFORE INSERT OR UPDATE OF brought_by ON node FOR EACH ROW
  EXECUTE FUNCTION node_is_brought();
CREATE FUNCTION node_is_accepted() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  UPDATE node SET accepted_at = NEW.created_at
   WHERE id = NEW.node_id AND accepted_at IS NULL AND brought_by IS DISTINCT FROM NEW.created_by;
  RETURN NULL;
END $$;
CREATE TRIGGER version_accepts AFTER INSERT ON file_version FOR EACH ROW WHEN (NEW.number > 1)
  EXECUTE FUNCTION node_is_accepted();
`;
