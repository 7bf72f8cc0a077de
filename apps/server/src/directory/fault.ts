import type { DirectoryStepName } from '@quay/contract';
import {
  BusyError,
  ConfidentialityRequiredError,
  InsufficientAccessError,
  InvalidCredentialsError,
  InvalidDNSyntaxError,
  NoSuchObjectError,
  ResultCodeError,
  SizeLimitExceededError,
  StrongAuthRequiredError,
  UnavailableError,
} from 'ldapts';

/** What stands between here and the directory: at which step, in words, and what to do about it. */
export class DirectoryFault extends Error {
  constructor(
    readonly step: DirectoryStepName,
    words: string,
    readonly remedy: string,
    /** No server answers: not that one said no. */
    readonly isAway = false,
  ) {
    super(words);
    this.name = 'DirectoryFault';
  }
}

/** An error on the way to a server, before it is asked anything. */
export function connectFault(error: unknown, host: string, port: number): DirectoryFault {
  const { code = '', message } = error as NodeJS.ErrnoException;
  const at = `${host}, port ${port}`;
  if (/ENOTFOUND|EAI_AGAIN|ENODATA/.test(code))
    return new DirectoryFault(
      'resolve',
      `There is no machine called ${host}.`,
      'Look at the name of the server.',
      true,
    );
  if (/ECONNREFUSED/.test(code))
    return new DirectoryFault(
      'connect',
      `Nothing answers at ${at}.`,
      'Directories answer at port 636 (LDAPS) or 389 (StartTLS).',
      true,
    );
  return new DirectoryFault(
    'connect',
    `${at} does not answer: ${message}.`,
    'See whether a firewall stands between.',
    true,
  );
}

/** The line could not be encrypted, or its end is not who it should be. */
export function encryptionFault(error: unknown, host: string, encryption: 'ldaps' | 'starttls'): DirectoryFault {
  const { code = '', message } = error as NodeJS.ErrnoException;
  const fault = (words: string, remedy: string, isAway = false) =>
    new DirectoryFault('certificate', words, remedy, isAway);
  if (/SELF_SIGNED|UNABLE_TO|CERT_UNTRUSTED/.test(code))
    return fault(
      `The certificate of ${host} comes from an authority that is not known here.`,
      'Add the certificate of that authority, after its fingerprint was compared.',
    );
  if (/ALTNAME/.test(code))
    return fault(`The certificate is for another name than ${host}.`, 'Use the name that stands on it.');
  if (/CERT_HAS_EXPIRED|CERT_NOT_YET/.test(code))
    return fault(
      `The certificate of ${host} is not valid today.`,
      'Have it renewed, and see that both clocks are right.',
    );
  if (
    /wrong version number|packet length|EPROTO|unknown protocol|before secure TLS|ECONNRESET/i.test(
      `${code} ${message}`,
    )
  )
    return encryption === 'ldaps'
      ? fault(`${host} does not encrypt from the first byte there.`, 'Choose StartTLS, or the port for LDAPS (636).')
      : fault(`${host} breaks off when encryption begins.`, 'Choose LDAPS, or the port for StartTLS (389).');
  return fault(
    `The line to ${host} could not be encrypted: ${message}.`,
    'See what the directory writes down about it.',
    true,
  );
}

/** What the directory answered to a request. */
export function answerFault(error: unknown, step: DirectoryStepName, what: string): DirectoryFault {
  if (error instanceof DirectoryFault) return error;
  const fault = (words: string, remedy: string, isAway = false) => new DirectoryFault(step, words, remedy, isAway);
  if (error instanceof InvalidCredentialsError)
    return fault(
      `The directory does not accept ${what} and that password.`,
      'Look at the name and type the password again.',
    );
  if (error instanceof NoSuchObjectError)
    return fault(`There is nothing called ${what}.`, 'Look at how it is spelled.');
  if (error instanceof InvalidDNSyntaxError)
    return fault(`${what} is no distinguished name.`, 'It is written like ou=People,dc=saltmarsh,dc=example.');
  if (error instanceof InsufficientAccessError)
    return fault(`Whoever reads the directory may not see ${what}.`, 'Let that account read it.');
  if (error instanceof SizeLimitExceededError)
    return fault(
      'The directory gave only a part of what was asked for.',
      'Raise its limit for the account that reads it: nothing is changed by a part.',
    );
  if (error instanceof ConfidentialityRequiredError || error instanceof StrongAuthRequiredError)
    return fault('The directory wants another kind of encryption.', 'Choose the other one.');
  if (error instanceof BusyError || error instanceof UnavailableError)
    return fault('The directory is too busy to answer.', 'Try again in a while.', true);
  if (error instanceof ResultCodeError)
    return fault(
      `The directory refused: ${error.message.slice(0, 200)} (code ${error.code}).`,
      'Look the code up in RFC 4511.',
    );
  return fault(`The directory broke off: ${(error as Error).message.slice(0, 200)}.`, 'Try again in a while.', true);
}
