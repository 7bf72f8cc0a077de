import { DUTIES } from '@quay/core';

/** Duties with a name: whoever has the set has exactly its duties. */
export const DUTY_SET_SCHEMA = `
CREATE TABLE duty_set (
  id          uuid PRIMARY KEY,
  name        text NOT NULL CHECK (length(name) BETWEEN 1 AND 80),
  duties      text[] NOT NULL CHECK (duties <@ ARRAY[${DUTIES.map((duty) => `'${duty}'`).join(', ')}]),
  created_at  timestamptz NOT NULL
);
CREATE UNIQUE INDEX duty_set_name ON duty_set (lower(name));
ALTER TABLE person ADD COLUMN duty_set_id uuid REFERENCES duty_set;
CREATE INDEX person_duty_set ON person (duty_set_id) WHERE duty_set_id IS NOT NULL;
`;
