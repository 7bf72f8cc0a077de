import { MAIL_ENCRYPTIONS, mailServerSchema, type MailServer, type MailTrialAnswer } from '@quay/contract';
import { Form } from 'react-bootstrap';
import type { UseFormReturn } from 'react-hook-form';
import { Field, useSchemaForm } from './form';
import './mail-server.scss';

const ENCRYPTION_WORDS = {
  starttls: 'STARTTLS (port 587)',
  tls: 'TLS from the first byte (port 465)',
  none: 'Not encrypted (port 25, inside only)',
} as const;
const PORTS = { starttls: 587, tls: 465, none: 25 } as const;

type TypedServer = Omit<MailServer, 'port'> & { port: string };
export type MailForm = UseFormReturn<TypedServer, unknown, MailServer>;

/** A form about the mail server. @param before what is kept; its password stays unless another is typed */
export function useMailForm(before: Omit<MailServer, 'password'> | null): MailForm {
  return useSchemaForm<TypedServer, MailServer>(
    mailServerSchema,
    {
      host: before?.host ?? '',
      port: String(before?.port ?? 587),
      encryption: before?.encryption ?? 'starttls',
      user: before?.user ?? '',
      password: '',
      sender: before?.sender ?? '',
    },
    { ask: ({ port, password, ...rest }) => ({ ...rest, port: Number(port), ...(password !== '' && { password }) }) },
  );
}

interface FieldsProps {
  form: MailForm;
  hadPassword: boolean;
  /** Where a test message goes. */
  to: string;
  setTo: (to: string) => void;
}

export function MailFields({ form, hadPassword, to, setTo }: FieldsProps) {
  return (
    <>
      <div className="mail-pair">
        <Field {...{ form, name: 'host', id: 'mail-host' }} label="Mail server" placeholder="mail.saltmarsh.example" />
        <Field {...{ form, name: 'port', id: 'mail-port' }} label="Port" inputMode="numeric" />
      </div>
      <Form.Group controlId="mail-encryption">
        <Form.Label>Encryption</Form.Label>
        <Form.Select
          {...form.register('encryption', {
            onChange: (e: { target: { value: keyof typeof PORTS } }) =>
              form.setValue('port', String(PORTS[e.target.value])),
          })}
        >
          {[...MAIL_ENCRYPTIONS].reverse().map((kind) => (
            <option key={kind} value={kind}>
              {ENCRYPTION_WORDS[kind]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <div className="mail-pair">
        <Field {...{ form, name: 'user', id: 'mail-user' }} label="Sign in as (empty: nobody)" autoComplete="off" />
        <Field
          {...{ form, name: 'password', id: 'mail-password', type: 'password', autoComplete: 'off' }}
          label={hadPassword ? 'Password (empty: as before, for the same server)' : 'Password'}
        />
      </div>
      <div className="mail-pair">
        <Field
          {...{ form, name: 'sender', id: 'mail-sender' }}
          label="Mail comes from"
          placeholder="quay@saltmarsh.example"
        />
        <Form.Group controlId="mail-to">
          <Form.Label>Test message to</Form.Label>
          <Form.Control type="email" value={to} onChange={(e) => setTo(e.target.value)} />
        </Form.Group>
      </div>
    </>
  );
}

const WHO = { us: 'we', server: 'server', note: '' } as const;

/** What the two servers said to each other. */
export function MailTrial({ trial }: { trial: MailTrialAnswer }) {
  return (
    <div role="status">
      <p className={trial.sent ? 'mail-sent' : 'mail-refused'}>{trial.words}</p>
      {trial.lines.length > 0 && (
        <ol className="mail-talk" tabIndex={0} aria-label="What the servers said">
          {trial.lines.map((line, i) => (
            <li key={i}>
              <span className="quiet">{WHO[line.from]}</span> {line.text}
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}
