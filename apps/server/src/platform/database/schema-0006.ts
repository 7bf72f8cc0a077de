import { LOCKS } from '../locks.js';

/** Who may do what: grants on any folder with their history, groups in groups, folders that take nothing over. */
export const ACCESS_SCHEMA = `
-- The server's moment of a change (Events.change sets it), so that tests and the past go by one clock.
CREATE FUNCTION quay_now() RETURNS timestamptz LANGUAGE sql STABLE AS $$
  SELECT coalesce(nullif(current_setting('quay.now', true), '')::timestamptz, now())
$$;

-- What access depends on is remembered, never overwritten: whether an account could be used, its role, whose a home
-- was.
CREATE TABLE person_past (
  person_id  uuid NOT NULL REFERENCES person,
  role       text NOT NULL,
  usable     boolean NOT NULL,
  since      timestamptz NOT NULL,
  until      timestamptz,
  CHECK (until >= since)
);
CREATE UNIQUE INDEX person_past_present ON person_past (person_id) WHERE until IS NULL;
CREATE INDEX person_past_person ON person_past (person_id, since);
INSERT INTO person_past (person_id, role, usable, since, until)
  SELECT id, role, true, created_at, disabled_at FROM person WHERE disabled_at IS NULL OR disabled_at > created_at;
INSERT INTO person_past (person_id, role, usable, since) SELECT id, role, false, disabled_at FROM person
  WHERE disabled_at IS NOT NULL;
CREATE FUNCTION person_remember() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE moment timestamptz := quay_now();
BEGIN
  IF TG_OP = 'INSERT' THEN
    moment := NEW.created_at;
  ELSIF (NEW.role, NEW.disabled_at IS NULL) = (OLD.role, OLD.disabled_at IS NULL) THEN
    RETURN NULL;
  ELSE
    UPDATE person_past SET until = greatest(since, moment) WHERE person_id = NEW.id AND until IS NULL
      RETURNING until INTO moment;
  END IF;
  INSERT INTO person_past (person_id, role, usable, since)
    VALUES (NEW.id, NEW.role, NEW.disabled_at IS NULL, coalesce(moment, quay_now()));
  RETURN NULL;
END $$;
CREATE TRIGGER person_remembers AFTER INSERT OR UPDATE ON person FOR EACH ROW EXECUTE FUNCTION person_remember();

CREATE TABLE home_owner (
  store_id   uuid NOT NULL REFERENCES store,
  person_id  uuid NOT NULL REFERENCES person,
  since      timestamptz NOT NULL,
  until      timestamptz,
  CHECK (until >= since)
);
CREATE UNIQUE INDEX home_owner_present ON home_owner (store_id) WHERE until IS NULL;
INSERT INTO home_owner (store_id, person_id, since) SELECT id, owner_id, created_at FROM store
  WHERE owner_id IS NOT NULL;
CREATE FUNCTION home_owner_remember() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE moment timestamptz := quay_now();
BEGIN
  IF TG_OP = 'INSERT' THEN
    moment := NEW.created_at;
  ELSIF NEW.owner_id IS NOT DISTINCT FROM OLD.owner_id THEN
    RETURN NULL;
  ELSE
    UPDATE home_owner SET until = greatest(since, moment) WHERE store_id = NEW.id AND until IS NULL;
  END IF;
  IF NEW.owner_id IS NOT NULL THEN
    INSERT INTO home_owner (store_id, person_id, since) VALUES (NEW.id, NEW.owner_id, moment);
  END IF;
  RETURN NULL;
END $$;
CREATE TRIGGER home_owner_remembers AFTER INSERT OR UPDATE OF owner_id ON store FOR EACH ROW
  EXECUTE FUNCTION home_owner_remember();

-- Groups hold people and groups. They end, they never vanish; an ended one gives its name back.
ALTER TABLE people_group ADD COLUMN since timestamptz, ADD COLUMN ended_at timestamptz;
UPDATE people_group SET since = coalesce((SELECT min(created_at) FROM person), now());
ALTER TABLE people_group ALTER COLUMN since SET NOT NULL, DROP CONSTRAINT people_group_name_key,
  ADD CHECK (ended_at >= since);
CREATE UNIQUE INDEX people_group_one_name ON people_group (name) WHERE ended_at IS NULL;
CREATE TABLE membership (
  id               uuid PRIMARY KEY,
  group_id         uuid NOT NULL REFERENCES people_group,
  person_id        uuid REFERENCES person,
  member_group_id  uuid REFERENCES people_group,
  source           text NOT NULL CHECK (source IN ('hand', 'directory')),
  since            timestamptz NOT NULL,
  ended_at         timestamptz,
  CHECK (num_nonnulls(person_id, member_group_id) = 1),
  CHECK (member_group_id <> group_id),
  CHECK (ended_at >= since)
);
CREATE UNIQUE INDEX membership_present ON membership (group_id, coalesce(person_id, member_group_id))
  WHERE ended_at IS NULL;
CREATE INDEX membership_person ON membership (person_id);
CREATE INDEX membership_group ON membership (member_group_id);
INSERT INTO membership (id, group_id, person_id, source, since)
  SELECT gen_random_uuid(), m.group_id, m.person_id, 'hand', greatest(p.created_at, g.since)
    FROM group_member m JOIN person p ON p.id = m.person_id JOIN people_group g ON g.id = m.group_id;
DROP TABLE group_member;

-- What an item is to access: whether it takes over what is granted above it, its rule for contributors, and who brought
-- it, until somebody accepted it. What was here before is accepted: contributors had no rights of their own.
ALTER TABLE node
  ADD COLUMN inherits boolean NOT NULL DEFAULT true,
  ADD COLUMN others_rule text CHECK (others_rule IN ('nothing', 'see', 'read')),
  ADD COLUMN brought_by uuid REFERENCES person,
  ADD COLUMN accepted_at timestamptz,
  ADD CONSTRAINT node_rules_on_folders CHECK (kind = 'folder' OR (inherits AND others_rule IS NULL));
ALTER TABLE node_past
  ADD COLUMN inherits boolean NOT NULL DEFAULT true,
  ADD COLUMN others_rule text;
-- Contributors could view and download until now: the stores' own folders say so.
UPDATE node SET others_rule = 'read' WHERE parent_id IS NULL;
UPDATE node_past SET others_rule = 'read' WHERE parent_id IS NULL;
UPDATE node n SET brought_by = v.created_by, accepted_at = n.created_at FROM file_version v
  WHERE v.node_id = n.id AND v.number = 1;
CREATE OR REPLACE FUNCTION node_remember() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  moment timestamptz := quay_now();
BEGIN
  IF TG_OP = 'INSERT' THEN
    moment := NEW.created_at;
  ELSIF (NEW.parent_id, NEW.store_id, NEW.name, NEW.version_id, NEW.trashed_at IS NULL, NEW.purged_at, NEW.inherits, NEW.others_rule)
    IS NOT DISTINCT FROM (OLD.parent_id, OLD.store_id, OLD.name, OLD.version_id, OLD.trashed_at IS NULL, OLD.purged_at,
      OLD.inherits, OLD.others_rule) THEN
    RETURN NULL;
  ELSE
    -- A clock that was put back never makes a stretch that ends before it began.
    UPDATE node_past SET until = greatest(since, moment) WHERE node_id = NEW.id AND until IS NULL
      RETURNING until INTO moment;
    IF NEW.purged_at IS NOT NULL THEN RETURN NULL; END IF;
  END IF;
  INSERT INTO node_past (node_id, store_id, parent_id, kind, name, version_id, trashed, inherits, others_rule, since)
    VALUES (NEW.id, NEW.store_id, NEW.parent_id, NEW.kind, NEW.name, NEW.version_id, NEW.trashed_at IS NOT NULL, NEW.inherits, NEW.others_rule, coalesce(moment, now()));
  RETURN NULL;
END $$;

-- A person's, a group's or all staff's level on a folder and everything in it. Only its end is ever written.
CREATE TABLE access_grant (
  id            uuid PRIMARY KEY,
  node_id       uuid NOT NULL REFERENCES node,
  subject_kind  text NOT NULL CHECK (subject_kind IN ('person', 'group', 'staff')),
  person_id     uuid REFERENCES person,
  group_id      uuid REFERENCES people_group,
  level         text NOT NULL CHECK (level IN ('view', 'download', 'contribute', 'edit', 'manage')),
  since         timestamptz NOT NULL,
  until         timestamptz,
  granted_by    uuid REFERENCES person,
  ended_at      timestamptz,
  ended_by      uuid REFERENCES person,
  CHECK ((subject_kind = 'person') = (person_id IS NOT NULL)),
  CHECK ((subject_kind = 'group') = (group_id IS NOT NULL)),
  CHECK (until > since),
  CHECK (ended_by IS NULL OR ended_at IS NOT NULL)
);
CREATE INDEX access_grant_node ON access_grant (node_id);
CREATE INDEX access_grant_person ON access_grant (person_id);
CREATE INDEX access_grant_group ON access_grant (group_id);
CREATE FUNCTION access_grant_only_ends() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP <> 'UPDATE' THEN RAISE EXCEPTION 'a grant is never removed, it ends'; END IF;
  IF OLD.ended_at IS NOT NULL
    OR (to_jsonb(NEW) - 'ended_at' - 'ended_by') <> (to_jsonb(OLD) - 'ended_at' - 'ended_by') THEN
    RAISE EXCEPTION 'a grant is never changed, it ends';
  END IF;
  RETURN NEW;
END $$;
CREATE TRIGGER access_grant_ends BEFORE UPDATE OR DELETE ON access_grant FOR EACH ROW
  EXECUTE FUNCTION access_grant_only_ends();

-- For each folder the nearest one at or above it where access may be another than above (a root): one where a grant
-- stands that is not ended, whatever its dates, that takes nothing over, or that has a rule of its own. Files use
-- their folder's.
CREATE TABLE access_root (
  id         integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  folder_id  uuid NOT NULL UNIQUE REFERENCES node,
  -- The folder that it lies in: a page of that folder asks for the roots in it, and not of each folder whether it is
  -- one.
  lies_in    uuid REFERENCES node
);
CREATE INDEX access_root_lies_in ON access_root (lies_in);
CREATE TABLE folder_access (
  folder_id  uuid PRIMARY KEY REFERENCES node,
  root       integer NOT NULL REFERENCES access_root
);
CREATE INDEX folder_access_root ON folder_access (root);

CREATE FUNCTION access_is_root(folder uuid) RETURNS boolean LANGUAGE sql STABLE AS $$
  SELECT n.parent_id IS NULL OR NOT n.inherits OR n.others_rule IS NOT NULL
      OR EXISTS (SELECT 1 FROM access_grant g WHERE g.node_id = n.id AND g.ended_at IS NULL)
    FROM node n WHERE n.id = folder
$$;

-- Puts right which root a folder has, and with it all folders below that had the same one from it. Every statement in
-- here sees what was committed before it, so the lock must be held by then: shared by who only adds folders. Only
-- indexes are used: a plan that a session made while these tables were small would read them whole for each of 100,000
-- folders.
CREATE FUNCTION access_reroot(folder uuid) RETURNS integer LANGUAGE plpgsql SET enable_seqscan = off AS $$
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
      SELECT n.id FROM down CROSS JOIN LATERAL (
        SELECT c.id FROM node c JOIN folder_access a ON a.folder_id = c.id AND a.root = was
         WHERE c.parent_id = down.id AND c.kind = 'folder' OFFSET 0
      ) n
    ) UPDATE folder_access a SET root = wanted FROM down WHERE a.folder_id = down.id;
    DELETE FROM access_root r WHERE r.id = was AND r.folder_id = folder;
  END IF;
  RETURN wanted;
END $$;

CREATE FUNCTION access_follows_node() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'INSERT' THEN
    PERFORM pg_advisory_xact_lock_shared(${LOCKS.access});
  ELSIF (NEW.parent_id, NEW.inherits, NEW.others_rule) IS NOT DISTINCT FROM (OLD.parent_id, OLD.inherits,
    OLD.others_rule) THEN
    RETURN NULL;
  ELSE
    PERFORM pg_advisory_xact_lock(${LOCKS.access});
  END IF;
  PERFORM access_reroot(NEW.id);
  RETURN NULL;
END $$;
CREATE TRIGGER folder_has_access AFTER INSERT OR UPDATE OF parent_id, inherits, others_rule ON node
  FOR EACH ROW WHEN (NEW.kind = 'folder') EXECUTE FUNCTION access_follows_node();
CREATE FUNCTION access_follows_grant() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM pg_advisory_xact_lock(${LOCKS.access});
  IF (SELECT kind FROM node WHERE id = NEW.node_id) <> 'folder' THEN RAISE EXCEPTION 'grants stand on folders'; END IF;
  PERFORM access_reroot(NEW.node_id);
  RETURN NULL;
END $$;
CREATE TRIGGER folder_is_granted AFTER INSERT OR UPDATE ON access_grant FOR EACH ROW
  EXECUTE FUNCTION access_follows_grant();

-- What is there: every folder has its store's own folder for a root, on which the store's grants stand from now on.
INSERT INTO access_root (folder_id) SELECT id FROM node WHERE parent_id IS NULL;
WITH RECURSIVE down AS (
  SELECT r.folder_id AS id, r.id AS root FROM access_root r
  UNION ALL SELECT n.id, down.root FROM down JOIN node n ON n.parent_id = down.id AND n.kind = 'folder'
) INSERT INTO folder_access (folder_id, root) SELECT id, root FROM down;
INSERT INTO access_grant (id, node_id, subject_kind, person_id, group_id, level, since)
  SELECT g.id, n.id, CASE WHEN g.person_id IS NOT NULL THEN 'person' WHEN g.group_id IS NOT NULL THEN 'group'
    ELSE 'staff' END,
         g.person_id, g.group_id, g.level, s.created_at
    FROM store_grant g JOIN store s ON s.id = g.store_id JOIN node n ON n.store_id = s.id AND n.parent_id IS NULL;
DROP TABLE store_grant;
`;
