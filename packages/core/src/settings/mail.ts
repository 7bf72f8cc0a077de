/** How a mail server is spoken to, as far as it matters to who is told its password. */
export interface MailDoor {
  host: string;
  port: number;
  encryption: 'none' | 'starttls' | 'tls';
  user: string;
}

/**
 * Whether a password that was typed for one mail server may go to another without being typed again: only to the same
 * door, in the same cover. Another port of the machine can be anybody's, and without encryption everybody reads along.
 */
export const passwordStays = (before: MailDoor, after: MailDoor): boolean =>
  before.host === after.host &&
  before.port === after.port &&
  before.encryption === after.encryption &&
  before.user === after.user;
