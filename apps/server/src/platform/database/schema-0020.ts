/** Certificates are ordered as a job: how far an order has come, and what the authority says of renewing. */
export const ORDERS_SCHEMA = `
CREATE TABLE certificate_order (
  address_id  uuid PRIMARY KEY REFERENCES address ON DELETE CASCADE,
  -- Who asked for it, as the ledger names them.
  actor       jsonb NOT NULL,
  step        text NOT NULL CHECK (step IN ('waiting', 'ordering', 'showing', 'looking', 'making')),
  kind        text CHECK (kind IN ('dns-01', 'http-01', 'tls-alpn-01')),
  asked_at    timestamptz NOT NULL,
  -- When whoever works on it was last heard of.
  touched_at  timestamptz NOT NULL,
  -- Why there is no certificate; null: it is under way.
  failure     text
);

-- RFC 9773: when this certificate is renewed by the authority's wish, and when the authority is asked again.
ALTER TABLE certificate
  ADD COLUMN renew_at timestamptz,
  ADD COLUMN renew_why text,
  ADD COLUMN ask_again_at timestamptz;

-- RFC 8737: proofs that are shown in a handshake, by the name that is asked for.
ALTER TABLE acme_challenge ADD COLUMN host text;
CREATE INDEX acme_challenge_host ON acme_challenge (host) WHERE host IS NOT NULL;

-- What a relay invited this office with, sealed; one at most.
CREATE TABLE relay_invitation (
  one          boolean PRIMARY KEY DEFAULT true CHECK (one),
  code_sealed  bytea NOT NULL,
  accepted_at  timestamptz NOT NULL
);
-- The way in that an address had before it fell back to the relay by itself; null: it did not.
ALTER TABLE address ADD COLUMN fell_from text CHECK (fell_from IN ('mapping', 'fixed'));

-- Where a name that takes no signed updates is changed: an address that is asked for; one at most.
CREATE TABLE name_update (
  one            boolean PRIMARY KEY DEFAULT true CHECK (one),
  name           text NOT NULL,
  url            text NOT NULL,
  account        text NOT NULL,
  secret_sealed  bytea NOT NULL,
  words          text[] NOT NULL
);

-- RFC 8555 §7.3.4: whom the authority knows this office as; the key is sealed.
ALTER TABLE acme_account
  ADD COLUMN binding_id text,
  ADD COLUMN binding_key_sealed bytea;
`;
