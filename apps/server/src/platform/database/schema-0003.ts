/** Reach: addresses and their ways in, what was set up for them, and the proofs. */
export const REACH_SCHEMA = `
ALTER TABLE address
  ADD way_in      text NOT NULL DEFAULT 'office' CHECK (way_in IN ('mapping', 'fixed', 'relay', 'office')),
  ADD uses        text NOT NULL DEFAULT 'sign-in' CHECK (uses IN ('visitors', 'sign-in', 'drive')),
  ADD redirect    boolean NOT NULL DEFAULT false,
  ADD hsts        boolean NOT NULL DEFAULT false,
  ADD fallback    text NOT NULL DEFAULT 'offer' CHECK (fallback IN ('offer', 'auto')),
  -- Steps of the guide that were done: step, then when and by whom (the program, or by hand).
  ADD guide       jsonb NOT NULL DEFAULT '{}',
  ADD created_at  timestamptz NOT NULL DEFAULT now();
CREATE UNIQUE INDEX address_place ON address (scheme, lower(host), coalesce(port, 0), path_prefix);

-- Name servers that take signed updates (RFC 2136, 8945): the public one of the zone, and those of networks inside.
CREATE TABLE name_server (
  network        text PRIMARY KEY CHECK (network IN ('public', 'office', 'guest')),
  address        text NOT NULL,
  port           integer NOT NULL CHECK (port BETWEEN 1 AND 65535),
  zone           text NOT NULL,
  key_name       text NOT NULL,
  secret_sealed  bytea NOT NULL
);

-- What the router was asked for. The nonce is PCP's: whoever has it may renew and remove.
CREATE TABLE port_mapping (
  address_id     uuid NOT NULL REFERENCES address ON DELETE CASCADE,
  external_port  integer NOT NULL,
  internal_port  integer NOT NULL,
  protocol       text NOT NULL CHECK (protocol IN ('pcp', 'nat-pmp', 'upnp')),
  nonce          bytea NOT NULL CHECK (length(nonce) = 12),
  granted_at     timestamptz NOT NULL,
  ends_at        timestamptz,
  PRIMARY KEY (address_id, external_port)
);

CREATE TABLE certificate (
  id           uuid PRIMARY KEY,
  host         text NOT NULL,
  chain        text NOT NULL,
  key_sealed   bytea NOT NULL,
  not_before   timestamptz NOT NULL,
  not_after    timestamptz NOT NULL,
  issuer       text NOT NULL,
  obtained_at  timestamptz NOT NULL
);
CREATE INDEX certificate_host ON certificate (lower(host), not_after DESC);
CREATE TABLE acme_account (
  directory   text PRIMARY KEY,
  key_sealed  bytea NOT NULL
);
CREATE TABLE acme_challenge (
  token          text PRIMARY KEY,
  proof          text NOT NULL,
  made_at        timestamptz NOT NULL
);

-- What lapses unless it is renewed, and how renewing went.
CREATE TABLE renewal (
  address_id  uuid NOT NULL REFERENCES address ON DELETE CASCADE,
  kind        text NOT NULL CHECK (kind IN ('record', 'mapping', 'certificate')),
  tried_at    timestamptz NOT NULL,
  failure     text,
  failures    integer NOT NULL DEFAULT 0,
  PRIMARY KEY (address_id, kind)
);

CREATE TABLE reach_check (
  id          uuid PRIMARY KEY,
  address_id  uuid NOT NULL REFERENCES address ON DELETE CASCADE,
  at          timestamptz NOT NULL,
  why         text NOT NULL CHECK (why IN ('asked', 'schedule', 'change', 'remedy')),
  took_ms     integer NOT NULL,
  mark        text NOT NULL CHECK (mark IN ('ok', 'warn', 'fail', 'unknown')),
  -- What it comes to for people outside alone: what links are judged by.
  outside     text NOT NULL CHECK (outside IN ('ok', 'warn', 'fail', 'unknown')),
  vantages    jsonb NOT NULL
);
CREATE INDEX reach_check_address ON reach_check (address_id, at DESC);

-- A nonce proves that a request came through to this server; it counts once.
CREATE TABLE reach_nonce (
  nonce_hash  bytea PRIMARY KEY CHECK (length(nonce_hash) = 32),
  address_id  uuid NOT NULL REFERENCES address ON DELETE CASCADE,
  purpose     text NOT NULL CHECK (purpose IN ('check', 'telephone')),
  made_at     timestamptz NOT NULL,
  ends_at     timestamptz NOT NULL,
  seen_at     timestamptz,
  seen        jsonb
);
`;
