/** Where and by what somebody is signed in, so that they can see it and end it; how long that lasts, and what passwords must be. */
export const SIGNED_IN_SCHEMA = `
ALTER TABLE session
  ADD COLUMN id uuid NOT NULL DEFAULT gen_random_uuid(),
  ADD COLUMN from_address text NOT NULL DEFAULT '',
  ADD COLUMN agent text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX session_id ON session (id);

ALTER TABLE office
  ADD COLUMN session_days integer NOT NULL DEFAULT 14 CHECK (session_days BETWEEN 1 AND 365),
  ADD COLUMN least_strength smallint NOT NULL DEFAULT 3 CHECK (least_strength BETWEEN 2 AND 4);
`;
