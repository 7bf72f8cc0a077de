import { nameUpdateSchema, type NameUpdate } from '@quay/contract';
import { USUAL_UPDATE_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { Field, FormFault, useKeptForm } from '../../../ui/form';
import { networkQuery, useForgetNameUpdate, useNameUpdate } from '../queries';

/** Where a name is changed that takes no signed updates: an address that is asked for, or a program of this machine. */
export function NameUpdateSettings({ host }: { host: string }) {
  const { data } = useQuery(networkQuery);
  const forget = useForgetNameUpdate();
  if (!data) return null;
  const { nameUpdate, nameHook } = data;
  if (nameHook)
    return (
      <p className="mb-0">
        Names are changed by the program <span className="mono">{nameHook}</span>, as the file says.
      </p>
    );
  return (
    <details>
      <summary>
        An address that changes the name:{' '}
        {nameUpdate ? `${nameUpdate.name} at ${new URL(nameUpdate.url).host}` : 'none yet'}
      </summary>
      <p className="small quiet">
        For providers that take no signed updates: the address that they give for a router, with{' '}
        <span className="mono">{'{ipv4}'}</span>, <span className="mono">{'{ipv6}'}</span>,{' '}
        <span className="mono">{'{name}'}</span>, <span className="mono">{'{user}'}</span> and{' '}
        <span className="mono">{'{secret}'}</span> in the places of the values. Without a place for the secret it is
        sent as HTTP does it.
      </p>
      {nameUpdate && (
        <Button
          size="sm"
          variant="plain"
          className="mb-2"
          disabled={forget.isPending}
          onClick={() => forget.mutate(undefined)}
        >
          Forget it
        </Button>
      )}
      <NameUpdateForm host={nameUpdate?.name ?? host} />
    </details>
  );
}

function NameUpdateForm({ host }: { host: string }) {
  const keep = useNameUpdate();
  const initial = { name: host, url: '', user: '', secret: '', words: [...USUAL_UPDATE_WORDS] };
  const { form, submit } = useKeptForm<NameUpdate>(nameUpdateSchema, initial, (asked) => keep.mutateAsync(asked));
  const mono = { form, className: 'mono' };
  return (
    <Form className="key-form" noValidate onSubmit={submit}>
      <Field {...{ ...mono, name: 'name', id: 'update-name', label: 'Name', required: true }} />
      <Field {...{ ...mono, name: 'url', id: 'update-url', label: 'Address, from https:// on', required: true }} />
      <Field {...{ ...mono, name: 'user', id: 'update-user', label: 'User' }} />
      <Field
        {...{ ...mono, name: 'secret', id: 'update-secret', label: 'Secret; kept sealed, never shown again' }}
        {...{ type: 'password', autoComplete: 'off' }}
      />
      <FormFault form={form} />
      <Button type="submit" variant="plain" disabled={keep.isPending}>
        Keep it
      </Button>
    </Form>
  );
}
