import type { AddressSheet } from '@quay/contract';
import { countOf, type WayIn } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { Button, Form } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { useNotices } from '../../../ui/notices';
import { networkQuery, useChangeAddress, useNameServer, useOwnCertificate, useRemoveAddress } from '../queries';
import { WAY_WORDS } from '../words';
import { readAddress } from './add-address';
import { UsesSelect } from './uses-select';

/** What an address reads, what it may be used for, the keys it needs, and its end. */
export function Settings({ address }: { address: AddressSheet }) {
  const change = useChangeAddress(address.id);
  const remove = useRemoveAddress(address.id);
  const navigate = useNavigate();
  const outward = address.wayIn !== 'office';
  return (
    <div className="reach-settings">
      <Rename key={address.text} address={address} />
      {outward && (
        <Form.Group controlId="way">
          <Form.Label>Way in</Form.Label>
          <Form.Select
            className="w-auto"
            value={address.wayIn}
            onChange={(e) => change.mutate({ wayIn: e.target.value as WayIn })}
          >
            {(['mapping', 'fixed', 'relay'] as const).map((w) => (
              <option key={w} value={w}>
                {WAY_WORDS[w]}
              </option>
            ))}
          </Form.Select>
          <Form.Text>Another way in begins its guide anew; links stay as they are.</Form.Text>
        </Form.Group>
      )}
      <UsesSelect uses={address.uses} choose={(uses) => change.mutate({ uses })} />
      {outward && (
        <div>
          <Form.Check
            type="switch"
            id="redirect"
            label="Send plain requests to the encrypted address"
            checked={address.redirect}
            onChange={(e) => change.mutate({ redirect: e.target.checked })}
          />
          <Form.Check
            type="switch"
            id="hsts"
            label="Tell browsers to keep to https for half a year (HSTS)"
            checked={address.hsts}
            onChange={(e) => change.mutate({ hsts: e.target.checked })}
          />
          {address.wayIn !== 'relay' && (
            <Form.Check
              type="switch"
              id="fallback"
              label="Go through the relay by itself when outsiders cannot get in at two checks in a row"
              checked={address.fallback === 'auto'}
              onChange={(e) => change.mutate({ fallback: e.target.checked ? 'auto' : 'offer' })}
            />
          )}
        </div>
      )}
      {outward && <NameServers host={address.host} />}
      {outward && <OwnCertificate addressId={address.id} />}
      <div className="d-flex gap-2">
        {!address.isDefault && (
          <Button variant="plain" disabled={change.isPending} onClick={() => change.mutate({ isDefault: true })}>
            Build new links on it
          </Button>
        )}
        <Button
          variant="plain"
          className="harm"
          disabled={remove.isPending || address.isDefault || address.shareCount > 0}
          onClick={() => remove.mutate(undefined, { onSuccess: () => void navigate('/reach') })}
        >
          Remove this address
        </Button>
      </div>
      {(address.isDefault || address.shareCount > 0) && (
        <p className="small quiet mb-0">
          {address.shareCount > 0
            ? 'It can be removed once no link that could still be opened is built on it: see Links.'
            : 'New links are built on it, so it stays until another takes that over.'}
        </p>
      )}
    </div>
  );
}

/** A changed address changes every link on it: how many is said before, and must be meant. */
function Rename({ address }: { address: AddressSheet }) {
  const change = useChangeAddress(address.id);
  const [text, setText] = useState(address.text);
  const [meant, setMeant] = useState(false);
  const read = readAddress(text);
  const other = text.trim() !== address.text;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (read) change.mutate({ ...read, ...(meant && { linksSeen: true }) });
  };
  return (
    <Form onSubmit={submit}>
      <Form.Label htmlFor="address-now">Address</Form.Label>
      <div className="d-flex gap-2">
        <Form.Control
          id="address-now"
          className="mono"
          value={text}
          isInvalid={other && !read}
          onChange={(e) => setText(e.target.value)}
        />
        <Button
          type="submit"
          variant="plain"
          disabled={!other || !read || change.isPending || (address.shareCount > 0 && !meant)}
        >
          Change
        </Button>
      </div>
      {other && address.shareCount > 0 && (
        <Form.Check
          className="mt-1"
          id="links-seen"
          label={`${countOf(address.shareCount, 'link')} that could still be opened will read differently, and those handed over must be sent again. I have seen them under Links.`}
          checked={meant}
          onChange={(e) => setMeant(e.target.checked)}
        />
      )}
    </Form>
  );
}

const NETWORK_WORDS = { public: 'the public zone', office: 'the office network', guest: 'the guest Wi-Fi' } as const;
type Network = keyof typeof NETWORK_WORDS;

/** The keys with which records are changed. A secret is taken and never shown again. */
function NameServers({ host }: { host: string }) {
  const { data } = useQuery(networkQuery);
  const keep = useNameServer();
  const [network, setNetwork] = useState<Network>('public');
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget;
    const field = (name: string) => String(new FormData(form).get(name) ?? '').trim();
    keep.mutate(
      {
        network,
        address: field('server'),
        port: 53,
        zone: field('zone'),
        keyName: field('keyName'),
        secret: field('secret'),
      },
      { onSuccess: () => form.reset() },
    );
  };
  return (
    <details>
      <summary>
        Name servers that take updates from the program
        {data && data.nameServers.length > 0
          ? `: ${data.nameServers.map((s) => NETWORK_WORDS[s.network]).join(', ')}`
          : ': none yet'}
      </summary>
      <p className="small quiet">
        {data?.nameServers
          .map((s) => `${NETWORK_WORDS[s.network]}: ${s.address}, zone ${s.zone}, key ${s.keyName}`)
          .join('; ')}
      </p>
      <Form className="key-form" onSubmit={submit}>
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
        <Form.Group controlId="ns-server">
          <Form.Label>Its address</Form.Label>
          <Form.Control name="server" className="mono" required />
        </Form.Group>
        <Form.Group controlId="ns-zone">
          <Form.Label>Zone</Form.Label>
          <Form.Control name="zone" className="mono" required defaultValue={host.split('.').slice(1).join('.')} />
        </Form.Group>
        <Form.Group controlId="ns-key">
          <Form.Label>Key name</Form.Label>
          <Form.Control name="keyName" className="mono" required />
        </Form.Group>
        <Form.Group controlId="ns-secret">
          <Form.Label>Secret (base64, hmac-sha256)</Form.Label>
          <Form.Control name="secret" type="password" className="mono" required autoComplete="off" />
        </Form.Group>
        <Button type="submit" variant="plain" disabled={keep.isPending}>
          Keep the key
        </Button>
      </Form>
    </details>
  );
}

function OwnCertificate({ addressId }: { addressId: string }) {
  const take = useOwnCertificate(addressId);
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget;
    const field = (name: string) => String(new FormData(form).get(name) ?? '');
    take.mutate(
      { chain: field('chain'), key: field('key') },
      {
        onSuccess: () => {
          form.reset();
          useNotices.getState().show('The certificate is served from now on.');
        },
      },
    );
  };
  return (
    <details>
      <summary>A certificate that was got by hand</summary>
      <Form className="key-form" onSubmit={submit}>
        <Form.Group controlId="own-chain">
          <Form.Label>Certificate and chain (PEM)</Form.Label>
          <Form.Control as="textarea" rows={4} name="chain" className="mono small" required />
        </Form.Group>
        <Form.Group controlId="own-key">
          <Form.Label>Private key (PEM); kept sealed, never shown again</Form.Label>
          <Form.Control as="textarea" rows={4} name="key" className="mono small" required autoComplete="off" />
        </Form.Group>
        <Button type="submit" variant="plain" disabled={take.isPending}>
          Serve it
        </Button>
      </Form>
    </details>
  );
}
