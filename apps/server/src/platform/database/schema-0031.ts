/** Each file of a share may be taken so often; one whose link is built on another address is looked at by the guardrails anew. */
export const SHARE_LIMITS_SCHEMA = `
ALTER TABLE share ADD COLUMN file_limit integer CHECK (file_limit > 0);

-- An upload may go into folders below, which are made with it; or replace one file, wherever that lies by then.
ALTER TABLE upload ADD COLUMN below text[] NOT NULL DEFAULT '{}',
  ADD COLUMN replaces uuid REFERENCES node;
CREATE INDEX upload_replaces ON upload (replaces) WHERE replaces IS NOT NULL;

DROP TRIGGER share_owner_judges ON share;
CREATE TRIGGER share_owner_judges BEFORE UPDATE OF created_by, address_id ON share FOR EACH ROW
  WHEN (OLD.created_by IS DISTINCT FROM NEW.created_by OR OLD.address_id IS DISTINCT FROM NEW.address_id)
  EXECUTE FUNCTION share_owner_judges();

-- How somebody likes their list of shares: the columns, and what they ask for often.
CREATE TABLE share_list_view (
  person_id  uuid PRIMARY KEY REFERENCES person ON DELETE CASCADE,
  view       jsonb NOT NULL
);

-- Telephone numbers are on lists, too.
ALTER TABLE share_recipient DROP CONSTRAINT share_recipient_kind_check,
  ADD CONSTRAINT share_recipient_kind_check CHECK (kind IN ('address', 'domain', 'subdomains', 'number'));
ALTER TABLE office_block DROP CONSTRAINT office_block_kind_check,
  ADD CONSTRAINT office_block_kind_check CHECK (kind IN ('address', 'domain', 'subdomains', 'number'));

-- The gateway through which text messages go out; one at the most.
CREATE TABLE text_gateway (
  id             boolean PRIMARY KEY DEFAULT true CHECK (id),
  url            text NOT NULL,
  format         text NOT NULL CHECK (format IN ('form', 'json', 'query')),
  fields         jsonb NOT NULL,
  headers        jsonb NOT NULL,
  secret_sealed  bytea,
  changed_at     timestamptz NOT NULL
);
CREATE TABLE text_message (
  id          uuid PRIMARY KEY,
  recipient   text NOT NULL,
  body        text NOT NULL,
  state       text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sent', 'refused', 'given-up')),
  tries       integer NOT NULL DEFAULT 0,
  answer      text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL,
  ended_at    timestamptz
);
CREATE INDEX text_message_ended ON text_message (ended_at);
CREATE INDEX text_message_made ON text_message (created_at);
`;
