/** Accounts as a place of their own: invitations, guests who end by themselves, groups with managers. */
export const PEOPLE_SCHEMA = `
ALTER TABLE person
  -- When they last used the server; sessions do not stay.
  ADD COLUMN seen_at timestamptz,
  -- While they have set no password of their own yet.
  ADD COLUMN invited_at timestamptz,
  -- Of a guest: who answers for them, and when the account ends by itself: on a day, or after days without use.
  ADD COLUMN sponsor_id uuid REFERENCES person,
  ADD COLUMN ends_at timestamptz,
  ADD COLUMN quiet_days integer CHECK (quiet_days BETWEEN 1 AND 3650),
  -- The end that they and their sponsor were told of.
  ADD COLUMN end_told timestamptz,
  ADD CHECK (role = 'guest' OR (sponsor_id IS NULL AND ends_at IS NULL AND quiet_days IS NULL));
UPDATE person p SET seen_at = (SELECT max(s.seen_at) FROM session s WHERE s.person_id = p.id);

-- An account that ends by itself ended then, however late that was written down.
CREATE OR REPLACE FUNCTION person_remember() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE moment timestamptz := quay_now();
BEGIN
  IF TG_OP = 'INSERT' THEN
    moment := NEW.created_at;
  ELSIF (NEW.role, NEW.disabled_at IS NULL) = (OLD.role, OLD.disabled_at IS NULL) THEN
    RETURN NULL;
  ELSE
    IF NEW.disabled_at IS NOT NULL AND OLD.disabled_at IS NULL THEN
      moment := least(moment, NEW.ends_at);
    END IF;
    UPDATE person_past SET until = greatest(since, moment) WHERE person_id = NEW.id AND until IS NULL
      RETURNING until INTO moment;
  END IF;
  INSERT INTO person_past (person_id, role, usable, since)
    VALUES (NEW.id, NEW.role, NEW.disabled_at IS NULL, coalesce(moment, quay_now()));
  RETURN NULL;
END $$;
CREATE TRIGGER ends_change_access AFTER UPDATE OF ends_at ON person FOR EACH ROW
  WHEN (NEW.ends_at IS DISTINCT FROM OLD.ends_at) EXECUTE FUNCTION access_changes();

-- Which folders ever took nothing over, or had a rule of their own: few of many.
CREATE INDEX node_past_ruled ON node_past (node_id) WHERE NOT inherits OR others_rule IS NOT NULL;

-- Who may put people into a group and take them out, beside those who look after people.
CREATE TABLE group_manager (
  group_id   uuid NOT NULL REFERENCES people_group,
  person_id  uuid NOT NULL REFERENCES person,
  since      timestamptz NOT NULL,
  ended_at   timestamptz CHECK (ended_at >= since)
);
CREATE UNIQUE INDEX group_manager_present ON group_manager (group_id, person_id) WHERE ended_at IS NULL;
CREATE INDEX group_manager_person ON group_manager (person_id) WHERE ended_at IS NULL;
ALTER TABLE membership ADD COLUMN added_by uuid REFERENCES person, ADD COLUMN ended_by uuid REFERENCES person;

-- Keys that a device signs in by, for whoever it belongs to (WebAuthn).
CREATE TABLE passkey (
  -- By which the device knows it.
  id          bytea PRIMARY KEY CHECK (length(id) BETWEEN 1 AND 1023),
  person_id   uuid NOT NULL REFERENCES person,
  -- It is good for this name of the server alone.
  host        text NOT NULL,
  public_key  bytea NOT NULL,
  counter     bigint NOT NULL,
  transports  text[] NOT NULL,
  name        text NOT NULL,
  added_at    timestamptz NOT NULL,
  used_at     timestamptz
);
CREATE INDEX passkey_person ON passkey (person_id);
-- What a device is to sign, once, within minutes; without a person: by whoever signs in.
CREATE TABLE passkey_challenge (
  challenge_hash  bytea PRIMARY KEY CHECK (length(challenge_hash) = 32),
  person_id       uuid REFERENCES person,
  ends_at         timestamptz NOT NULL
);
-- It stands for a password and a second factor: the device asks who holds it.
ALTER TABLE session ADD COLUMN by_passkey boolean NOT NULL DEFAULT false;

-- Another person publishes a share: what they may not publish stands against it.
CREATE FUNCTION share_has_another_owner() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM shares_ask_again(ARRAY[NEW.id]);
  PERFORM shares_bar(ARRAY[NEW.id]);
  RETURN NULL;
END $$;
CREATE TRIGGER share_owner_changed AFTER UPDATE OF created_by ON share FOR EACH ROW
  WHEN (NEW.created_by IS DISTINCT FROM OLD.created_by) EXECUTE FUNCTION share_has_another_owner();

-- Somebody has left: what that did, so that it can be taken back until their home is gone.
CREATE TABLE leaving (
  id              uuid PRIMARY KEY,
  person_id       uuid NOT NULL REFERENCES person,
  left_at         timestamptz NOT NULL,
  left_by         uuid NOT NULL REFERENCES person,
  done            jsonb NOT NULL,
  -- When their home goes; null: it stays, or somebody has it.
  home_until      timestamptz,
  home_purged_at  timestamptz,
  undone_at       timestamptz
);
CREATE UNIQUE INDEX leaving_present ON leaving (person_id) WHERE undone_at IS NULL;
`;
