import { simpleParser, type AddressObject } from 'mailparser';
import { SMTPServer } from 'smtp-server';
import type { Mailbox } from './state.js';

/** A mail server (RFC 5321) that takes every message and delivers none: what came in is shown on the outside world's page. */
export function mailServer(mailbox: Mailbox): SMTPServer {
  return new SMTPServer({
    disabledCommands: ['AUTH', 'STARTTLS'],
    size: 25 * 1024 * 1024,
    banner: 'mail catcher of the outside world',
    onData(stream, session, done) {
      simpleParser(stream).then((mail) => {
        const to = ([] as AddressObject[]).concat(mail.to ?? []).map((a) => a.text);
        mailbox.add({
          receivedAt: new Date().toISOString(),
          from: mail.from?.text ?? '',
          to: to.length ? to : session.envelope.rcptTo.map((r) => r.address),
          subject: mail.subject ?? '',
          text: mail.text ?? '',
          sizeBytes: stream.byteLength,
        });
        done();
      }, done);
    },
  });
}
