/**
 * A second factor for signing in, from whom it is wanted, and who may sign in from outside; what stands on the pages of
 * visitors; the order of stores, and which are archived; what people are told of by mail.
 */
export const SETTLED_SCHEMA = `
ALTER TABLE office
  ADD COLUMN factor_wanted text NOT NULL DEFAULT 'nobody'
    CHECK (factor_wanted IN ('nobody', 'admins', 'staff', 'everybody')),
  ADD COLUMN sign_in_outside text NOT NULL DEFAULT 'everybody'
    CHECK (sign_in_outside IN ('everybody', 'factor', 'nobody')),
  ADD COLUMN visitor_words text NOT NULL DEFAULT '' CHECK (length(visitor_words) <= 600);

CREATE TABLE office_logo (
  id      smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  png     bytea NOT NULL CHECK (length(png) <= 160000),
  version text NOT NULL
);

ALTER TABLE person ADD COLUMN factor_declined_at timestamptz;

ALTER TABLE person ADD COLUMN notices text[] NOT NULL DEFAULT '{share-closing,server}'
  CHECK (notices <@ ARRAY['share-closing', 'share-opened', 'server']);
-- The day of the last notice of the morning.
ALTER TABLE office ADD COLUMN noticed_on date;
ALTER TABLE share_moment DROP CONSTRAINT share_moment_what_check,
  ADD CONSTRAINT share_moment_what_check CHECK (what IN ('opens', 'closes', 'closes-soon'));

-- In an archived store nothing is added, changed or thrown away. Access depends on it, so it is remembered.
ALTER TABLE store ADD COLUMN position integer, ADD COLUMN archived_at timestamptz;
CREATE TABLE store_archived (
  store_id uuid NOT NULL REFERENCES store,
  since    timestamptz NOT NULL,
  until    timestamptz CHECK (until >= since)
);
CREATE UNIQUE INDEX store_archived_present ON store_archived (store_id) WHERE until IS NULL;
CREATE INDEX store_archived_store ON store_archived (store_id);
CREATE FUNCTION store_archived_remember() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF NEW.archived_at IS NOT DISTINCT FROM OLD.archived_at THEN RETURN NULL; END IF;
  UPDATE store_archived SET until = greatest(since, quay_now()) WHERE store_id = NEW.id AND until IS NULL;
  IF NEW.archived_at IS NOT NULL THEN
    INSERT INTO store_archived (store_id, since) VALUES (NEW.id, NEW.archived_at);
  END IF;
  RETURN NULL;
END $$;
CREATE TRIGGER store_archived_remembers AFTER UPDATE OF archived_at ON store FOR EACH ROW
  EXECUTE FUNCTION store_archived_remember();
CREATE TRIGGER archives_change_access AFTER INSERT OR UPDATE ON store_archived FOR EACH STATEMENT
  EXECUTE FUNCTION access_changes();

-- Not one yet until the first code was typed (since IS NULL).
CREATE TABLE second_factor (
  person_id     uuid PRIMARY KEY REFERENCES person ON DELETE CASCADE,
  secret_sealed bytea NOT NULL,
  begun_at      timestamptz NOT NULL,
  since         timestamptz,
  -- Each code is good once (RFC 6238 §5.2): the newest step of time that was used.
  last_step     bigint CHECK (last_step >= 0)
);
CREATE TABLE recovery_code (
  person_id uuid NOT NULL REFERENCES second_factor ON DELETE CASCADE,
  code_hash bytea NOT NULL CHECK (length(code_hash) = 32),
  PRIMARY KEY (person_id, code_hash)
);
`;
