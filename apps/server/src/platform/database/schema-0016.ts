/** Backups: where to, how often, how many are kept; and by which folder of them an office knows its own. */
export const BACKUP_SCHEMA = `
ALTER TABLE office ADD COLUMN uid uuid NOT NULL DEFAULT gen_random_uuid();

ALTER TABLE task DROP CONSTRAINT task_kind_check;
ALTER TABLE task ADD CONSTRAINT task_kind_check
  CHECK (kind IN ('import', 'export', 'scrub', 'backup', 'rehearsal'));

CREATE TABLE backup_place (
  id          uuid PRIMARY KEY,
  folder      text NOT NULL UNIQUE CHECK (folder LIKE '/%'),
  every       text NOT NULL CHECK (every IN ('hour', 'day', 'week')),
  at_minute   integer NOT NULL CHECK (at_minute BETWEEN 0 AND 1439),
  weekday     integer NOT NULL CHECK (weekday BETWEEN 1 AND 7),
  keep_days   integer NOT NULL CHECK (keep_days >= 0),
  keep_weeks  integer NOT NULL CHECK (keep_weeks >= 0),
  keep_months integer NOT NULL CHECK (keep_months >= 0),
  recipients  text[] NOT NULL,
  rehearse    text NOT NULL CHECK (rehearse IN ('never', 'week', 'month')),
  made_at     timestamptz NOT NULL,

  -- The newest attempt: why it failed; null: it has not.
  tried_at    timestamptz,
  fault_code  text,
  fault_words text,
  -- The newest that worked.
  good_at     timestamptz,
  stamp       text,
  files       bigint NOT NULL DEFAULT 0,
  bytes       bigint NOT NULL DEFAULT 0,
  lacking     integer NOT NULL DEFAULT 0,

  rehearsed_at    timestamptz,
  rehearsal_fault text,
  rehearsal_words text,
  -- The blob that was read last: the next rehearsal goes on after it.
  read_after      text,
  CHECK ((fault_code IS NULL) = (fault_words IS NULL)),
  CHECK ((good_at IS NULL) = (stamp IS NULL))
);
`;
