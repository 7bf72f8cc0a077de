/**
 * The ways of a hand-over: files that go with a mail, text messages, templates of messages, whom somebody wrote to; mail
 * that came back, and the mailbox that it comes back to.
 */
export const HAND_OVER_WAYS_SCHEMA = `
ALTER TABLE mail DROP CONSTRAINT mail_state_check,
  ADD CONSTRAINT mail_state_check CHECK (state IN ('waiting', 'sent', 'refused', 'given-up', 'returned')),
  ADD COLUMN recipient_name text NOT NULL DEFAULT '',
  -- A try that began and has not ended: after it nobody knows whether the server took it.
  ADD COLUMN began boolean NOT NULL DEFAULT false,
  ADD COLUMN perhaps_twice boolean NOT NULL DEFAULT false,
  -- The files that go with it: the same for all of one sending.
  ADD COLUMN enclosed uuid;
CREATE INDEX mail_enclosed ON mail (enclosed) WHERE enclosed IS NOT NULL;
CREATE TABLE mail_enclosure (
  enclosed  uuid NOT NULL,
  position  integer NOT NULL,
  name      text NOT NULL,
  content   bytea NOT NULL,
  PRIMARY KEY (enclosed, position)
);

-- Where reports of mail that came back are read; one at the most.
CREATE TABLE mail_returns (
  id               boolean PRIMARY KEY DEFAULT true CHECK (id),
  host             text NOT NULL,
  port             integer NOT NULL CHECK (port BETWEEN 1 AND 65535),
  encryption       text NOT NULL CHECK (encryption IN ('tls', 'starttls', 'none')),
  user_name        text NOT NULL,
  password_sealed  bytea NOT NULL,
  folder           text NOT NULL,
  changed_at       timestamptz NOT NULL,
  -- How far it is read: numbers of messages hold for one validity (RFC 9051, 2.3.1.1).
  uid_validity     bigint,
  last_uid         bigint NOT NULL DEFAULT 0,
  looked_at        timestamptz,
  -- What went wrong when it was looked at last.
  fault            text
);

ALTER TABLE hand_over DROP CONSTRAINT hand_over_channel_check,
  DROP CONSTRAINT hand_over_what_check,
  DROP CONSTRAINT hand_over_check,
  DROP CONSTRAINT hand_over_sending_id_recipient_key,
  ADD CONSTRAINT hand_over_channel_check CHECK
    (channel IN ('mail', 'own-mail', 'copied', 'device', 'text', 'telephone', 'paper', 'in-person')),
  ADD CONSTRAINT hand_over_what_check CHECK (what IN ('link', 'password', 'files', 'withdrawal')),
  ADD CONSTRAINT hand_over_sending_key UNIQUE (share_id, sending_id, recipient, what),
  ADD COLUMN recipient_name text NOT NULL DEFAULT '',
  ADD COLUMN text_id uuid REFERENCES text_message ON DELETE SET NULL,
  -- Link and password went the same way, knowingly.
  ADD COLUMN same_way boolean NOT NULL DEFAULT false,
  -- Nothing more is to be done about what went wrong with it.
  ADD COLUMN settled_at timestamptz;
CREATE INDEX hand_over_text ON hand_over (text_id) WHERE text_id IS NOT NULL;
CREATE INDEX hand_over_same_way ON hand_over (at) WHERE same_way AND settled_at IS NULL;

ALTER TABLE person DROP CONSTRAINT person_notices_check, ADD CONSTRAINT person_notices_check CHECK (notices <@
  ARRAY['share-closing', 'share-opened', 'share-taken', 'share-brought', 'share-used-up', 'share-tried', 'share-barred',
    'mail-returned', 'server']);
ALTER TABLE person ALTER COLUMN notices SET DEFAULT '{share-closing,share-barred,mail-returned,server}';
UPDATE person SET notices = notices || '{mail-returned}' WHERE NOT 'mail-returned' = ANY(notices);

CREATE TABLE message_template (
  id          uuid PRIMARY KEY,
  -- Null: of the office.
  person_id   uuid REFERENCES person ON DELETE CASCADE,
  name        text NOT NULL,
  subject     text NOT NULL,
  body        text NOT NULL,
  -- What a message begins with.
  begins      boolean NOT NULL,
  changed_at  timestamptz NOT NULL
);
CREATE UNIQUE INDEX message_template_name ON message_template (coalesce(person_id, '00000000-0000-0000-0000-000000000000'), lower(name));
CREATE UNIQUE INDEX message_template_begins ON message_template (coalesce(person_id, '00000000-0000-0000-0000-000000000000'))
  WHERE begins;
CREATE INDEX message_template_person ON message_template (person_id);

-- Whom somebody wrote to, for the next time.
CREATE TABLE known_recipient (
  person_id  uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  recipient  text NOT NULL,
  name       text NOT NULL,
  last_at    timestamptz NOT NULL,
  PRIMARY KEY (person_id, recipient)
);
INSERT INTO known_recipient (person_id, recipient, name, last_at)
  SELECT by_id, recipient, '', max(at) FROM hand_over WHERE recipient <> '' GROUP BY by_id, recipient;
`;
