/** Second factors: time to set one up where it is newly wanted. */
export const FACTOR_SCHEMA = `
ALTER TABLE office
  ADD COLUMN factor_grace_days integer NOT NULL DEFAULT 0 CHECK (factor_grace_days BETWEEN 0 AND 90),
  -- Since when a second factor is wanted from those from whom it is; null: always.
  ADD COLUMN factor_wanted_since timestamptz;
`;
