import type { MailSettings, MailTrialAnswer } from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { FormFault, tellRefused } from '../../ui/form';
import { MailFields, MailTrial, useMailForm } from '../../ui/mail-server';
import { useNotices } from '../../ui/notices';
import { useMe } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';
import { MailReturnsForm } from './mail-returns';
import { mailQuery } from './queries';

export function MailSettingsForm() {
  const { data, error, refetch } = useQuery(mailQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={5} />;
  return (
    <>
      {data.fixed ? (
        <p>The configuration of this server names the mail server, and is changed where the server is started.</p>
      ) : (
        <MailForm key={JSON.stringify(data)} kept={data} />
      )}
      <MailReturnsForm />
    </>
  );
}

function MailForm({ kept }: { kept: MailSettings }) {
  const me = useMe();
  const client = useQueryClient();
  const [to, setTo] = useState(me.email);
  const [trial, setTrial] = useState<MailTrialAnswer | null>(null);
  const form = useMailForm(kept.server);
  const told = async (work: () => Promise<void>) => {
    try {
      await work();
    } catch (error) {
      tellRefused(form, error);
    }
  };
  const show = (settings: MailSettings, words: string) => {
    client.setQueryData(mailQuery.queryKey, settings);
    useNotices.getState().show(words);
  };
  const keep = form.handleSubmit((asked) =>
    told(async () =>
      show(await api('PUT', '/api/settings/mail', asked), `Mail goes out by ${asked.host} from now on.`),
    ),
  );
  const send = form.handleSubmit((asked) =>
    told(async () => {
      setTrial(null);
      setTrial(await api<MailTrialAnswer>('POST', '/api/settings/mail/trial', { ...asked, to }));
    }),
  );
  const without = () =>
    told(async () => show(await api('DELETE', '/api/settings/mail'), 'No mail goes out from now on.'));
  const busy = form.formState.isSubmitting;
  return (
    <Form noValidate onSubmit={(e) => void keep(e)} className="d-grid gap-2">
      <p className="mb-0">
        {kept.server
          ? 'What waits to be sent goes out by what you name here, too.'
          : 'No mail goes out yet: links are handed over by copying, and nobody is told what happened.'}
      </p>
      <MailFields {...{ form, to, setTo }} hadPassword={kept.hasPassword} />
      <FormFault form={form} />
      {trial && <MailTrial trial={trial} />}
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" disabled={busy}>
          Use this mail server
        </Button>
        <Button variant="plain" disabled={busy} onClick={() => void send()}>
          {busy ? 'Sending' : 'Send a test message'}
        </Button>
        {kept.server && (
          <Button variant="plain" disabled={busy} onClick={() => void without()}>
            Send no mail
          </Button>
        )}
      </div>
    </Form>
  );
}
