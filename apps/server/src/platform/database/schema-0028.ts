/**
 * Passwords that somebody made for somebody else: they let in only to choose another, until then. Of looks at the
 * directory, the head.
 */
export const GIVEN_PASSWORD_SCHEMA = `
ALTER TABLE person ADD COLUMN given_until timestamptz;

-- The first lines of a run, for whoever looks: all of it may be tens of megabytes, and is kept only while it is of use.
ALTER TABLE directory_run ADD COLUMN shown jsonb;
UPDATE directory_run SET shown = jsonb_build_object(
  'changes', jsonb_path_query_array(plan::jsonb, '$.changes[0 to 499]'),
  'kept', jsonb_path_query_array(plan::jsonb, '$.kept[0 to 499]')) WHERE plan IS NOT NULL;
UPDATE directory_run SET plan = NULL WHERE state IN ('done', 'failed', 'dropped');
`;
