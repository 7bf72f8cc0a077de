/** Ways in over IPv6: what a router's firewall lets in, beside what it leads on over IPv4. */
export const SIX_SCHEMA = `
ALTER TABLE port_mapping
  ADD COLUMN family smallint NOT NULL DEFAULT 4 CHECK (family IN (4, 6)),
  -- For 6: the address that requests are let in to.
  ADD COLUMN inside text,
  -- WANIPv6FirewallControl: by what the router knows it.
  ADD COLUMN pinhole integer,
  DROP CONSTRAINT port_mapping_pkey,
  ADD PRIMARY KEY (address_id, family, external_port),
  ADD CHECK ((family = 6) = (inside IS NOT NULL));

-- What the program last had the name lead to: nothing of that is left when it leads elsewhere.
ALTER TABLE address ADD COLUMN recorded text[] NOT NULL DEFAULT '{}';

-- What was typed in of the network, in place of what is found; the file comes before it.
CREATE TABLE network_setting (
  name   text PRIMARY KEY CHECK (name IN ('gateway', 'insideAddress', 'insideAddress6', 'resolvers', 'stun', 'authority')),
  value  text[] NOT NULL CHECK (cardinality(value) > 0)
);

-- Other offices that look at this one from outside when they are asked, and for which this one looks.
CREATE TABLE lookout (
  id                 uuid PRIMARY KEY,
  name               text NOT NULL,
  -- Where it is called; null: it cannot be yet.
  url                text,
  -- Whether that is what the other office says of itself, and nobody here.
  is_told            boolean NOT NULL DEFAULT false,
  -- By which it knows this office.
  our_secret_sealed  bytea,
  -- By which this office knows it; before, the code that was made for it.
  their_hash         bytea NOT NULL UNIQUE,
  code_ends_at       timestamptz,
  since              timestamptz,
  answered_at        timestamptz,
  asked_at           timestamptz,
  failure            text,
  CHECK ((since IS NULL) = (code_ends_at IS NOT NULL)),
  CHECK (since IS NULL OR our_secret_sealed IS NOT NULL)
);
`;
