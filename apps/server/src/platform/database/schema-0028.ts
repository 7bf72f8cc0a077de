/** Passwords that somebody made for somebody else: they let in only to choose another, until then. */
export const GIVEN_PASSWORD_SCHEMA = `
ALTER TABLE person ADD COLUMN given_until timestamptz;
`;
