/**
 * The first start: answers are kept until they are all there, then an office is made of them in one transaction. How
 * mail is handed in, and where bytes lie, is the office's own from here on.
 */
export const BEGIN_SCHEMA = `
ALTER TABLE office
  ADD COLUMN homes boolean NOT NULL DEFAULT true,
  ADD COLUMN inside_only boolean NOT NULL DEFAULT false,
  ADD COLUMN blob_root text CHECK (blob_root LIKE '/%');

-- One row until the office has begun. The code that the terminal printed lets one browser hold it.
CREATE TABLE setup (
  id           smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  answers      jsonb NOT NULL DEFAULT '{}',
  code_hash    bytea CHECK (length(code_hash) = 32),
  code_until   timestamptz,
  holder_hash  bytea CHECK (length(holder_hash) = 32),
  holder_until timestamptz,
  CHECK ((code_hash IS NULL) = (code_until IS NULL)),
  CHECK ((holder_hash IS NULL) = (holder_until IS NULL))
);

CREATE TABLE mail_server (
  id              smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
  host            text NOT NULL,
  port            integer NOT NULL CHECK (port BETWEEN 1 AND 65535),
  encryption      text NOT NULL CHECK (encryption IN ('none', 'starttls', 'tls')),
  user_name       text NOT NULL DEFAULT '',
  password_sealed bytea,
  sender          text NOT NULL,
  changed_at      timestamptz NOT NULL
);
`;
