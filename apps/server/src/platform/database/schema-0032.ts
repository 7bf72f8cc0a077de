/** Mail that somebody writes; and to whom links and passwords went, by which way. */
export const HAND_OVER_SCHEMA = `
ALTER TABLE mail ADD COLUMN html text,
  ADD COLUMN reply_to text,
  -- As whom it is sent, beside the office's address.
  ADD COLUMN sender_name text,
  -- What whoever runs the server reads instead of the subject, where that may tell of a home.
  ADD COLUMN shown_as text;

CREATE TABLE hand_over (
  id          uuid PRIMARY KEY,
  share_id    uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  what        text NOT NULL CHECK (what IN ('link', 'password')),
  channel     text NOT NULL CHECK (channel IN ('mail', 'own-mail', 'copied', 'text', 'telephone', 'paper', 'in-person')),
  recipient   text NOT NULL,
  -- Of mail: which sending it was of, that none is done twice; and the message.
  sending_id  uuid,
  mail_id     uuid REFERENCES mail ON DELETE SET NULL,
  by_id       uuid NOT NULL REFERENCES person,
  at          timestamptz NOT NULL,
  -- What of the share was told with it.
  told        jsonb NOT NULL,
  UNIQUE (sending_id, recipient),
  CHECK (channel = 'mail' OR (sending_id IS NULL AND mail_id IS NULL))
);
CREATE INDEX hand_over_share ON hand_over (share_id, at DESC);
CREATE INDEX hand_over_mail ON hand_over (mail_id);
CREATE INDEX hand_over_by ON hand_over (by_id);
`;
