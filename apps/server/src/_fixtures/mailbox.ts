import { simpleParser, type ParsedMail } from 'mailparser';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';

/** A mail server that takes everything, and what came. */
export interface Mailbox {
  url: string;
  mails: ParsedMail[];
  /** Addresses that it does not take. */
  refuses: Set<string>;
  close: () => Promise<void>;
}

export async function openMailbox(): Promise<Mailbox> {
  const mails: ParsedMail[] = [];
  const refuses = new Set<string>();
  const smtp = new SMTPServer({
    disabledCommands: ['AUTH', 'STARTTLS'],
    onRcptTo: ({ address }, _session, done) =>
      done(refuses.has(address) ? Object.assign(new Error('no such mailbox here'), { responseCode: 550 }) : undefined),
    onData: (stream, _session, done) => void simpleParser(stream).then((mail) => (mails.push(mail), done()), done),
  });
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  const { port } = smtp.server.address() as AddressInfo;
  return {
    url: `smtp://127.0.0.1:${port}`,
    ...{ mails, refuses },
    close: () => new Promise((resolve) => smtp.close(resolve)),
  };
}
