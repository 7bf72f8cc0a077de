/** Things that happen at a later time by themselves, and mail that is on its way. */
export const LATER_SCHEMA = `
-- That a share opened or closed by itself was told at its moment: once, whoever finds it due.
CREATE TABLE share_moment (
  share_id  uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  what      text NOT NULL CHECK (what IN ('opens', 'closes')),
  at        timestamptz NOT NULL,
  told_at   timestamptz NOT NULL,
  PRIMARY KEY (share_id, what, at)
);
-- What had opened or closed before anybody told of it is not told of now.
INSERT INTO share_moment (share_id, what, at, told_at) SELECT id, 'opens', opens_at, opens_at FROM share
  WHERE opens_at <= now();
INSERT INTO share_moment (share_id, what, at, told_at) SELECT id, 'closes', closes_at, closes_at FROM share
  WHERE closes_at <= now();

-- Mail, from when it is handed in until the mail server has taken it, refused it, or was given up on.
CREATE TABLE mail (
  id          uuid PRIMARY KEY,
  recipient   text NOT NULL,
  subject     text NOT NULL,
  body        text NOT NULL,
  state       text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sent', 'refused', 'given-up')),
  tries       integer NOT NULL DEFAULT 0,
  -- What the mail server, or the way to it, said last.
  answer      text,
  created_at  timestamptz NOT NULL,
  ended_at    timestamptz,
  CHECK ((state = 'waiting') = (ended_at IS NULL))
);
CREATE INDEX mail_newest ON mail (created_at DESC);
`;
