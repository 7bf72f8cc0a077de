/** Whom shares are for: anyone, whoever proves an address, listed addresses, or people and groups who sign in. */
export const AUDIENCE_SCHEMA = `
ALTER TABLE share ADD COLUMN audience text NOT NULL DEFAULT 'anyone'
  CHECK (audience IN ('anyone', 'verified', 'listed', 'members'));

-- Values are canonical (recipients.ts of core): what is looked for is compared as it stands.
CREATE TABLE share_recipient (
  share_id  uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  blocked   boolean NOT NULL,
  kind      text NOT NULL CHECK (kind IN ('address', 'domain', 'subdomains')),
  value     text NOT NULL CHECK (length(value) BETWEEN 1 AND 254),
  PRIMARY KEY (share_id, blocked, kind, value)
);
CREATE TABLE share_member (
  share_id   uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  person_id  uuid REFERENCES person,
  group_id   uuid REFERENCES people_group,
  CHECK (num_nonnulls(person_id, group_id) = 1),
  UNIQUE (share_id, person_id),
  UNIQUE (share_id, group_id)
);
CREATE INDEX share_member_person ON share_member (person_id) WHERE person_id IS NOT NULL;
CREATE INDEX share_member_group ON share_member (group_id) WHERE group_id IS NOT NULL;

-- Codes that were sent, each known by a ticket of the browser that asked: whoever asks in somebody else's name neither
-- voids their code nor uses up its tries. Gone once used. No address is kept in words.
CREATE TABLE share_code (
  ticket_hash   bytea PRIMARY KEY CHECK (length(ticket_hash) = 32),
  share_id      uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  code_mac      bytea NOT NULL CHECK (length(code_mac) = 32),
  expires_at    timestamptz NOT NULL,
  tries         integer NOT NULL DEFAULT 0 CHECK (tries >= 0)
);
CREATE INDEX share_code_expires ON share_code (expires_at);
CREATE INDEX share_code_share ON share_code (share_id);

-- Whom a visit was let in as: an address that was proven, or somebody in a session, with which it ends.
ALTER TABLE visit
  ADD COLUMN recipient text,
  ADD COLUMN person_id uuid REFERENCES person,
  ADD COLUMN session_hash bytea;

-- What has gone out is kept by nobody but whom it was for.
UPDATE mail SET body = '' WHERE state = 'sent';
`;
