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
`;
