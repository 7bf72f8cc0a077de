/** Sign-in by an identity provider (OpenID Connect): how it is asked, whom it knows, who is on the way. */
export const PROVIDER_SCHEMA = `
CREATE TABLE identity_provider (
  id             integer PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  settings       jsonb NOT NULL,
  secret_sealed  bytea NOT NULL,
  changed_at     timestamptz NOT NULL
);

-- Who somebody of the provider is here. A subject is theirs at that issuer for ever (OpenID Connect Core §2).
CREATE TABLE provider_identity (
  issuer     text NOT NULL,
  subject    text NOT NULL CHECK (length(subject) BETWEEN 1 AND 255),
  person_id  uuid NOT NULL UNIQUE REFERENCES person,
  since      timestamptz NOT NULL,
  PRIMARY KEY (issuer, subject)
);

-- Somebody who has gone to the provider and not come back yet; with a person: has come back, and is asked for a code.
CREATE TABLE provider_sign_in (
  state_hash       bytea PRIMARY KEY CHECK (length(state_hash) = 32),
  nonce            text NOT NULL,
  verifier_sealed  bytea NOT NULL,
  back             text NOT NULL,
  person_id        uuid REFERENCES person,
  ends_at          timestamptz NOT NULL
);

ALTER TABLE session ADD COLUMN by_provider boolean NOT NULL DEFAULT false;
ALTER TABLE membership DROP CONSTRAINT membership_source_check,
  ADD CONSTRAINT membership_source_check CHECK (source IN ('hand', 'directory', 'provider'));
`;
