/**
 * A router that is started anew forgets its mappings; how old it says it is tells of that. An account at a certificate
 * authority has an address of its own, which is kept: a client that asks for it anew each time is taken for a new one.
 */
export const ROUTER_AGE_SCHEMA = `
ALTER TABLE port_mapping
  ADD COLUMN epoch_seconds bigint CHECK (epoch_seconds >= 0),
  ADD COLUMN epoch_at timestamptz,
  ADD CHECK ((epoch_seconds IS NULL) = (epoch_at IS NULL));
ALTER TABLE acme_account ADD COLUMN url text;
`;
