/** What visitors may do with a share; whoever holds its link may bring files into it, if it says so. */
export const SHARE_MAY_SCHEMA = `
ALTER TABLE share ADD COLUMN level text NOT NULL DEFAULT 'download'
    CHECK (level IN ('view', 'download', 'contribute', 'edit')),
  -- Of 'contribute': whether what is there, and what others bring, is shown.
  ADD COLUMN sees_others boolean NOT NULL DEFAULT true,
  -- So many bytes are taken in, and so many have been.
  ADD COLUMN takes_bytes bigint NOT NULL DEFAULT 5000000000 CHECK (takes_bytes > 0),
  ADD COLUMN brought_bytes bigint NOT NULL DEFAULT 0 CHECK (brought_bytes >= 0);

-- As whom a visit brings something: the same for all visits of one proven address.
ALTER TABLE visit ADD COLUMN actor_id uuid REFERENCES actor;
CREATE INDEX visit_actor ON visit (share_id, recipient) WHERE actor_id IS NOT NULL;

-- Uploads are also of those who have no account; the version that one is to replace is named.
ALTER TABLE upload DROP CONSTRAINT upload_person_id_fkey;
ALTER TABLE upload RENAME COLUMN person_id TO actor_id;
ALTER INDEX upload_person RENAME TO upload_actor;
ALTER TABLE upload ADD FOREIGN KEY (actor_id) REFERENCES actor ON DELETE CASCADE,
  ADD COLUMN share_id uuid REFERENCES share ON DELETE CASCADE,
  ADD COLUMN base_sha256 bytea CHECK (length(base_sha256) = 32);
CREATE INDEX upload_share ON upload (share_id) WHERE share_id IS NOT NULL AND answer IS NULL;

-- What visitors brought into a share, as which version.
CREATE TABLE share_brought (
  version_id  uuid PRIMARY KEY REFERENCES file_version ON DELETE CASCADE,
  share_id    uuid NOT NULL REFERENCES share ON DELETE CASCADE,
  node_id     uuid NOT NULL REFERENCES node,
  visit_id    uuid NOT NULL REFERENCES visit ON DELETE CASCADE,
  at          timestamptz NOT NULL
);
CREATE INDEX share_brought_share ON share_brought (share_id, at);
CREATE INDEX share_brought_node ON share_brought (node_id);

ALTER TABLE person DROP CONSTRAINT person_notices_check, ADD CONSTRAINT person_notices_check CHECK (notices <@
  ARRAY['share-closing', 'share-opened', 'share-taken', 'share-brought', 'share-used-up', 'share-tried', 'server']);
-- When a visit first brought something.
ALTER TABLE visit ADD COLUMN brought_at timestamptz;
`;
