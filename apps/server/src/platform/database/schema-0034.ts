/** Intakes: pages on which outsiders hand files in, and what they handed in. */
export const INTAKE_SCHEMA = `
CREATE TABLE intake (
  id                uuid PRIMARY KEY,
  title             text NOT NULL,
  message           text NOT NULL,
  token_hash        bytea NOT NULL UNIQUE CHECK (length(token_hash) = 32),
  token_sealed      bytea NOT NULL,
  address_id        uuid NOT NULL REFERENCES address,
  password_hash     text,
  password_score    smallint,
  opens_at          timestamptz,
  closes_at         timestamptz CHECK (closes_at > opens_at),
  withdrawn_at      timestamptz,
  created_at        timestamptz NOT NULL,
  created_by        uuid NOT NULL REFERENCES person,
  -- Where what is accepted goes.
  folder_id         uuid NOT NULL REFERENCES node,
  -- Deposits wait until somebody accepts them.
  waits             boolean NOT NULL,
  -- Where they do not: what goes straight in; null: everything that is what its name says.
  straight          jsonb,
  -- How the folder of a contributor is called; null: there is none.
  folder_pattern    text,
  limits            jsonb NOT NULL,
  questions         jsonb NOT NULL,
  receipt_by_mail   boolean NOT NULL,
  -- What was handed in, with what is still arriving, and without what was refused: decided under this row's lock.
  taken_bytes       bigint NOT NULL DEFAULT 0 CHECK (taken_bytes >= 0),
  -- The pages that it may be shown in, and its colours there; null: none.
  embed             jsonb,
  audience          text NOT NULL DEFAULT 'anyone' CHECK (audience IN ('anyone', 'verified', 'listed', 'members')),
  -- So many days before it closes, those who have handed nothing in are reminded; null: nobody is.
  remind_days       smallint CHECK (remind_days BETWEEN 1 AND 30),
  -- The closing that they were reminded of.
  reminded_of       timestamptz
);

-- As of shares (schema-0027). Values are canonical.
CREATE TABLE intake_recipient (
  intake_id  uuid NOT NULL REFERENCES intake ON DELETE CASCADE,
  blocked    boolean NOT NULL,
  kind       text NOT NULL CHECK (kind IN ('address', 'domain', 'subdomains', 'number')),
  value      text NOT NULL CHECK (length(value) BETWEEN 1 AND 254),
  PRIMARY KEY (intake_id, blocked, kind, value)
);
CREATE TABLE intake_member (
  intake_id  uuid NOT NULL REFERENCES intake ON DELETE CASCADE,
  person_id  uuid REFERENCES person,
  group_id   uuid REFERENCES people_group,
  CHECK (num_nonnulls(person_id, group_id) = 1),
  UNIQUE (intake_id, person_id),
  UNIQUE (intake_id, group_id)
);
CREATE INDEX intake_member_person ON intake_member (person_id) WHERE person_id IS NOT NULL;
CREATE INDEX intake_member_group ON intake_member (group_id) WHERE group_id IS NOT NULL;
CREATE TABLE intake_code (
  ticket_hash   bytea PRIMARY KEY CHECK (length(ticket_hash) = 32),
  intake_id     uuid NOT NULL REFERENCES intake ON DELETE CASCADE,
  code_mac      bytea NOT NULL CHECK (length(code_mac) = 32),
  expires_at    timestamptz NOT NULL,
  tries         integer NOT NULL DEFAULT 0 CHECK (tries >= 0)
);
CREATE INDEX intake_code_expires ON intake_code (expires_at);
CREATE INDEX intake_code_intake ON intake_code (intake_id);
-- When somebody who has handed nothing in was last written to: an address, or the id of a person.
CREATE TABLE intake_reminder (
  intake_id  uuid NOT NULL REFERENCES intake ON DELETE CASCADE,
  who        text NOT NULL,
  at         timestamptz NOT NULL,
  PRIMARY KEY (intake_id, who)
);
CREATE INDEX intake_by ON intake (created_by, created_at DESC);
CREATE INDEX intake_folder ON intake (folder_id);
CREATE INDEX intake_address ON intake (address_id);

CREATE TABLE deposit (
  id                  uuid PRIMARY KEY,
  intake_id           uuid NOT NULL REFERENCES intake ON DELETE CASCADE,
  -- The first deposit of the same contributor, as far as their browser tells.
  contributor_id      uuid NOT NULL REFERENCES deposit ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED,
  -- Told to the contributor; null until it is handed in.
  number              text UNIQUE,
  -- The browser that is handing it in.
  cookie_hash         bytea NOT NULL UNIQUE CHECK (length(cookie_hash) = 32),
  -- "What I handed in": the secret of the receipt's link.
  receipt_key_hash    bytea UNIQUE CHECK (length(receipt_key_hash) = 32),
  receipt_key_sealed  bytea,
  receipt_hash        bytea CHECK (length(receipt_hash) = 32),
  -- The password that it was begun by, so that another one ends it.
  password_mark       bytea,
  began_at            timestamptz NOT NULL,
  touched_at          timestamptz NOT NULL,
  handed_in_at        timestamptz,
  state               text NOT NULL CHECK (state IN ('arriving', 'waiting', 'accepted', 'partly', 'refused')),
  answers             jsonb NOT NULL,
  who                 text NOT NULL,
  actor_id            uuid REFERENCES actor,
  from_address        text NOT NULL,
  -- Whom it was let in as, where the intake is not for anyone.
  recipient           text,
  person_id           uuid REFERENCES person,
  session_hash        bytea,
  files               integer NOT NULL DEFAULT 0 CHECK (files >= 0),
  bytes               bigint NOT NULL DEFAULT 0 CHECK (bytes >= 0),
  decided_at          timestamptz,
  decided_by          uuid REFERENCES person,
  reason              text NOT NULL DEFAULT '',
  -- What it was handed in to answer.
  follows_id          uuid REFERENCES deposit ON DELETE SET NULL,
  CHECK ((state = 'arriving') = (handed_in_at IS NULL)),
  CHECK (handed_in_at IS NULL OR (number IS NOT NULL AND receipt_key_hash IS NOT NULL AND receipt_hash IS NOT NULL))
);
CREATE INDEX deposit_person ON deposit (person_id) WHERE person_id IS NOT NULL;
CREATE INDEX deposit_follows ON deposit (follows_id) WHERE follows_id IS NOT NULL;
CREATE INDEX deposit_intake ON deposit (intake_id, handed_in_at DESC, id DESC);
CREATE INDEX deposit_waiting ON deposit (intake_id) WHERE state = 'waiting';
CREATE INDEX deposit_arriving ON deposit (touched_at) WHERE state = 'arriving';
CREATE INDEX deposit_contributor ON deposit (contributor_id);
CREATE INDEX deposit_actor ON deposit (actor_id) WHERE actor_id IS NOT NULL;
CREATE INDEX deposit_decider ON deposit (decided_by) WHERE decided_by IS NOT NULL;

-- What a contributor was asked about what they handed in.
CREATE TABLE deposit_question (
  id          uuid PRIMARY KEY,
  deposit_id  uuid NOT NULL REFERENCES deposit ON DELETE CASCADE,
  words       text NOT NULL,
  asked_at    timestamptz NOT NULL,
  asked_by    uuid NOT NULL REFERENCES person
);
CREATE INDEX deposit_question_deposit ON deposit_question (deposit_id, asked_at);
CREATE INDEX deposit_question_person ON deposit_question (asked_by);

CREATE TABLE deposit_file (
  id            uuid PRIMARY KEY,
  deposit_id    uuid NOT NULL REFERENCES deposit ON DELETE CASCADE,
  -- With the folders that it came in, parted by "/".
  path          text NOT NULL,
  modified_at   timestamptz,
  size_bytes    bigint NOT NULL CHECK (size_bytes >= 0),
  offset_bytes  bigint NOT NULL DEFAULT 0 CHECK (offset_bytes BETWEEN 0 AND size_bytes),
  writer        uuid,
  created_at    timestamptz NOT NULL,
  -- Null until all of it has arrived; it stays when the bytes have gone elsewhere.
  sha256        bytea CHECK (length(sha256) = 32),
  -- The bytes, while they wait.
  blob_sha256   bytea REFERENCES blob,
  -- What its first bytes say that it is, and how that and what is in it agree with its name; null: not looked at yet.
  media         text,
  verdict       text CHECK (verdict IN ('as-named', 'not-told', 'other', 'program', 'bomb')),
  verdict_words text NOT NULL DEFAULT '',
  -- What the scanner says; null: it has not looked, or none is named.
  scan          text CHECK (scan IN ('clean', 'found', 'too-large')),
  finding       text NOT NULL DEFAULT '',
  decided       text CHECK (decided IN ('accepted', 'refused')),
  -- What it became.
  node_id       uuid REFERENCES node,
  UNIQUE (deposit_id, path),
  CHECK (blob_sha256 IS NULL OR (sha256 = blob_sha256 AND decided IS NULL))
);
CREATE INDEX deposit_file_blob ON deposit_file (blob_sha256) WHERE blob_sha256 IS NOT NULL;
CREATE INDEX deposit_file_node ON deposit_file (node_id) WHERE node_id IS NOT NULL;

-- Room for what is being handed in is held until it is accepted or refused.
ALTER TABLE room_held ADD COLUMN deposit_file_id uuid UNIQUE REFERENCES deposit_file ON DELETE CASCADE,
  DROP CONSTRAINT room_held_check,
  ADD CONSTRAINT room_held_check CHECK
    ((upload_id IS NULL AND deposit_file_id IS NULL) = (ends_at IS NOT NULL));

ALTER TABLE person DROP CONSTRAINT person_notices_check, ADD CONSTRAINT person_notices_check CHECK (notices <@
  ARRAY['share-closing', 'share-opened', 'share-taken', 'share-brought', 'share-used-up', 'share-tried', 'share-barred',
    'mail-returned', 'handed-in', 'server']);
ALTER TABLE person ALTER COLUMN notices SET DEFAULT '{share-closing,share-barred,mail-returned,handed-in,server}';
UPDATE person SET notices = notices || '{handed-in}' WHERE NOT 'handed-in' = ANY(notices);
`;
