import {
  accountBindingSchema,
  nameServerSchema,
  ownCertificateSchema,
  type AccountBinding,
  type NameServerSettings,
} from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Field, FormFault, useKeptForm } from '../../../ui/form';
import { useNotices } from '../../../ui/notices';
import { networkQuery, useBinding, useNameServer, useOwnCertificate } from '../queries';

const NETWORK_WORDS = { public: 'the public zone', office: 'the office network', guest: 'the guest Wi-Fi' } as const;
type Network = keyof typeof NETWORK_WORDS;

/** The keys with which records are changed. A secret is taken and never shown again. */
export function NameServers({ host }: { host: string }) {
  const { data } = useQuery(networkQuery);
  const known = data?.nameServers ?? [];
  const names = known.map((s) => NETWORK_WORDS[s.network]).join(', ');
  return (
    <details>
      <summary>Name servers that take updates from the program: {names || 'none yet'}</summary>
      <p className="small quiet">
        {known.map((s) => `${NETWORK_WORDS[s.network]}: ${s.address}, zone ${s.zone}, key ${s.keyName}`).join('; ')}
      </p>
      <NameServerForm host={host} />
    </details>
  );
}

function NameServerForm({ host }: { host: string }) {
  const keep = useNameServer();
  const [network, setNetwork] = useState<Network>('public');
  const zone = host.split('.').slice(1).join('.');
  const initial = { address: '', port: 53, zone, keyName: '', secret: '' };
  const { form, submit } = useKeptForm<NameServerSettings>(nameServerSchema, initial, (asked) =>
    keep.mutateAsync({ network, ...asked }),
  );
  const mono = { form, className: 'mono', required: true };
  return (
    <Form className="key-form" noValidate onSubmit={submit}>
      <Form.Group controlId="ns-network">
        <Form.Label>For</Form.Label>
        <Form.Select value={network} onChange={(e) => setNetwork(e.target.value as Network)}>
          {(Object.entries(NETWORK_WORDS) as [Network, string][]).map(([key, words]) => (
            <option key={key} value={key}>
              {words}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Field {...mono} name="address" id="ns-server" label="Its address" />
      <Field {...mono} name="zone" id="ns-zone" label="Zone" />
      <Field {...mono} name="keyName" id="ns-key" label="Key name" />
      <Field
        {...{ ...mono, name: 'secret', id: 'ns-secret', label: 'Secret (base64, hmac-sha256)' }}
        {...{ type: 'password', autoComplete: 'off' }}
      />
      <FormFault form={form} />
      <Button type="submit" variant="plain" disabled={keep.isPending}>
        Keep the key
      </Button>
    </Form>
  );
}

/** Some authorities give certificates only to whom they know: what they gave out for that is typed in once. */
export function AuthorityAccount() {
  const { data } = useQuery(networkQuery);
  const bind = useBinding();
  const { form, submit } = useKeptForm<AccountBinding>(accountBindingSchema, { id: '', key: '' }, (asked) =>
    bind.mutateAsync(asked),
  );
  if (!data?.authority) return null;
  const { directory, bindingId } = data.authority;
  const mono = { form, className: 'mono', required: true };
  return (
    <details>
      <summary>
        Certificates are got from {new URL(directory).host}
        {bindingId ? `, which knows the office as ${bindingId}` : ''}
      </summary>
      <p className="small quiet">
        Only where the authority wants to know whose account it is: what it gave out for that (external account
        binding).
      </p>
      <Form className="key-form" noValidate onSubmit={submit}>
        <Field {...mono} name="id" id="binding-id" label="Key identifier" />
        <Field
          {...{ ...mono, name: 'key', id: 'binding-key', label: 'Key (base64url); kept sealed, never shown again' }}
          {...{ type: 'password', autoComplete: 'off' }}
        />
        <FormFault form={form} />
        <Button type="submit" variant="plain" disabled={bind.isPending}>
          Keep it
        </Button>
      </Form>
    </details>
  );
}

export function OwnCertificate({ addressId }: { addressId: string }) {
  const serve = useOwnCertificate(addressId);
  const { form, submit } = useKeptForm<{ chain: string; key: string }>(
    ownCertificateSchema,
    { chain: '', key: '' },
    async (asked) => {
      await serve.mutateAsync(asked);
      useNotices.getState().show('The certificate is served from now on.');
    },
  );
  const pem = { form, as: 'textarea' as const, rows: 4, className: 'mono small', required: true };
  return (
    <details>
      <summary>A certificate that was got by hand</summary>
      <Form className="key-form" noValidate onSubmit={submit}>
        <Field {...pem} name="chain" id="own-chain" label="Certificate and chain (PEM)" />
        <Field
          {...{ ...pem, name: 'key', id: 'own-key', autoComplete: 'off' }}
          label="Private key (PEM); kept sealed, never shown again"
        />
        <FormFault form={form} />
        <Button type="submit" variant="plain" disabled={serve.isPending}>
          Serve it
        </Button>
      </Form>
    </details>
  );
}
