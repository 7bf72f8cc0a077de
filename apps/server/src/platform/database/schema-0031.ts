/** Each file of a share may be taken so often; one whose link is built on another address is looked at by the guardrails anew. */
export const SHARE_LIMITS_SCHEMA = `
ALTER TABLE share ADD COLUMN file_limit integer CHECK (file_limit > 0);

DROP TRIGGER share_owner_judges ON share;
CREATE TRIGGER share_owner_judges BEFORE UPDATE OF created_by, address_id ON share FOR EACH ROW
  WHEN (OLD.created_by IS DISTINCT FROM NEW.created_by OR OLD.address_id IS DISTINCT FROM NEW.address_id)
  EXECUTE FUNCTION share_owner_judges();
`;
