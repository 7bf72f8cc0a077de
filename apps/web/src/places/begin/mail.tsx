import type { MailTrialAnswer, SetupState } from '@quay/contract';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { FormFault, tellRefused } from '../../ui/form';
import { MailFields, MailTrial, useMailForm } from '../../ui/mail-server';
import type { StepProps } from './steps';

export function MailStep({ state, done }: StepProps) {
  const { mail, you } = state.answers;
  const before = mail && !mail.later ? mail : null;
  const [to, setTo] = useState(you?.email ?? '');
  const [trial, setTrial] = useState<MailTrialAnswer | null>(null);
  const form = useMailForm(before);
  const told = async (work: () => Promise<void>) => {
    try {
      await work();
    } catch (error) {
      tellRefused(form, error);
    }
  };
  const keep = form.handleSubmit((asked) =>
    told(async () => done(await api<SetupState>('PUT', '/api/setup/mail', asked))),
  );
  const send = form.handleSubmit((asked) =>
    told(async () => {
      setTrial(null);
      setTrial(await api<MailTrialAnswer>('POST', '/api/setup/mail/trial', { ...asked, to }));
    }),
  );
  const later = () => told(async () => done(await api<SetupState>('PUT', '/api/setup/mail', { later: true })));
  const busy = form.formState.isSubmitting;
  return (
    <Form noValidate onSubmit={(e) => void keep(e)} className="d-grid gap-2">
      <p>
        Mail carries links, codes and notices. Without it links are handed over by copying, and nobody is told what
        happened.
      </p>
      <MailFields {...{ form, to, setTo }} hadPassword={before !== null} />
      <FormFault form={form} />
      {trial && <MailTrial trial={trial} />}
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" disabled={busy}>
          Keep and go on
        </Button>
        <Button variant="plain" disabled={busy} onClick={() => void send()}>
          {busy ? 'Sending' : 'Send a test message'}
        </Button>
        <Button variant="plain" disabled={busy} onClick={() => void later()}>
          Later
        </Button>
      </div>
    </Form>
  );
}
