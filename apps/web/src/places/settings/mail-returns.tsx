import { mailReturnsSchema, type MailReturns, type MailReturnsAsked, type MailReturnsSettings } from '@quay/contract';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { tellFailure, useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { mailReturnsQuery } from './queries';

const ENCRYPTION_WORDS = {
  tls: 'TLS from the first byte (port 993)',
  starttls: 'STARTTLS (port 143)',
  none: 'Not encrypted (inside only)',
} as const;
const PORTS = { tls: 993, starttls: 143, none: 143 } as const;

/** The mailbox that mail comes back to when it cannot be delivered. */
export function MailReturnsForm() {
  const { data, error, refetch } = useQuery(mailReturnsQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={3} />;
  return (
    <div className="mt-4">
      <h2 className="small-head">Mail that comes back</h2>
      <p className="mb-2">
        A mail server may take a message and find out later that nobody is there. It says so to the mailbox that mail
        comes from: named here, it is read every minute, nothing in it is changed, and whoever sent a link is told.
      </p>
      <MailboxForm key={JSON.stringify(data.mailbox)} kept={data} />
    </div>
  );
}

type Typed = Omit<MailReturnsAsked, 'port' | 'password'> & { port: string; password: string };

const EMPTY: MailReturns = { host: '', port: 993, encryption: 'tls', user: '', folder: 'INBOX' };

function MailboxForm({ kept: { mailbox, lookedAt, fault } }: { kept: MailReturnsSettings }) {
  const client = useQueryClient();
  const before = mailbox ?? EMPTY;
  const form = useSchemaForm<Typed, MailReturnsAsked>(
    mailReturnsSchema,
    { ...before, port: String(before.port), password: '' },
    { ask: ({ port, password, ...rest }) => ({ ...rest, port: Number(port), ...(password !== '' && { password }) }) },
  );
  const show = (settings: MailReturnsSettings, words: string) => {
    client.setQueryData(mailReturnsQuery.queryKey, settings);
    useNotices.getState().show(words);
  };
  const keep = form.handleSubmit(async (asked) => {
    try {
      show(await api('PUT', '/api/settings/mail-returns', asked), 'The mailbox opens, and is read from now on.');
    } catch (error) {
      tellRefused(form, error);
    }
  });
  const without = useMutation({
    mutationFn: () => api<MailReturnsSettings>('DELETE', '/api/settings/mail-returns'),
    onSuccess: (settings) => show(settings, 'Mail that comes back is read no more.'),
    onError: tellFailure,
  });
  const busy = form.formState.isSubmitting || without.isPending;
  return (
    <Form noValidate onSubmit={(e) => void keep(e)} className="d-grid gap-2" aria-label="Mailbox">
      {mailbox && <Looked {...{ lookedAt, fault }} />}
      <div className="mail-pair">
        <Field
          {...{ form, name: 'host', id: 'returns-host' }}
          label="Mailbox at (IMAP)"
          placeholder="mail.saltmarsh.example"
        />
        <Field {...{ form, name: 'port', id: 'returns-port' }} label="Port" inputMode="numeric" />
      </div>
      <Form.Group controlId="returns-encryption">
        <Form.Label>Encryption</Form.Label>
        <Form.Select
          {...form.register('encryption', {
            onChange: (e: { target: { value: keyof typeof PORTS } }) =>
              form.setValue('port', String(PORTS[e.target.value])),
          })}
        >
          {(Object.keys(ENCRYPTION_WORDS) as (keyof typeof PORTS)[]).map((kind) => (
            <option key={kind} value={kind}>
              {ENCRYPTION_WORDS[kind]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <div className="mail-pair">
        <Field {...{ form, name: 'user', id: 'returns-user' }} label="Sign in as" autoComplete="off" />
        <Field
          {...{ form, name: 'password', id: 'returns-password', type: 'password', autoComplete: 'off' }}
          label={mailbox ? 'Password (empty: as before)' : 'Password'}
        />
      </div>
      <Field {...{ form, name: 'folder', id: 'returns-folder' }} label="Folder" />
      <FormFault form={form} />
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" disabled={busy}>
          {busy ? 'Opening it' : 'Read this mailbox'}
        </Button>
        {mailbox && (
          <Button variant="plain" disabled={busy} onClick={() => without.mutate()}>
            Read none
          </Button>
        )}
      </div>
    </Form>
  );
}

function Looked({ lookedAt, fault }: Pick<MailReturnsSettings, 'lookedAt' | 'fault'>) {
  if (!lookedAt) return <p className="quiet small mb-0">Not looked into yet.</p>;
  return (
    <p className={fault ? 'field-fault mb-0' : 'quiet small mb-0'}>
      Looked into <When at={lookedAt} brief />
      {fault ? `: ${fault}` : '.'}
    </p>
  );
}
