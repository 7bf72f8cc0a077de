/** Second factors: time to set one up where it is newly wanted, and browsers that need no code for a while. */
export const FACTOR_SCHEMA = `
ALTER TABLE office
  ADD COLUMN factor_grace_days integer NOT NULL DEFAULT 0 CHECK (factor_grace_days BETWEEN 0 AND 90),
  -- Since when a second factor is wanted from those from whom it is; null: always.
  ADD COLUMN factor_wanted_since timestamptz;

-- Browsers in which somebody has typed a code, and is asked for none for a while.
CREATE TABLE factor_browser (
  token_hash  bytea PRIMARY KEY CHECK (length(token_hash) = 32),
  person_id   uuid NOT NULL REFERENCES person,
  ends_at     timestamptz NOT NULL
);
CREATE INDEX factor_browser_person ON factor_browser (person_id);
`;
