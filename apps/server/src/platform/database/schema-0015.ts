/** Links by which somebody sets a password of their own, once: given out on the machine itself. */
export const PASSWORD_LINK_SCHEMA = `
CREATE TABLE password_link (
  token_hash bytea PRIMARY KEY CHECK (length(token_hash) = 32),
  person_id  uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  made_at    timestamptz NOT NULL,
  ends_at    timestamptz NOT NULL CHECK (ends_at > made_at)
);
CREATE INDEX password_link_person ON password_link (person_id);
`;
