import type { AddressSheet } from '@quay/contract';
import { countOf, type WayIn } from '@quay/core';
import { useState, type FormEvent } from 'react';
import { Button, Form } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { useChangeAddress, useRemoveAddress } from '../queries';
import { WAY_WORDS } from '../words';
import { readAddress } from './add-address';
import { AuthorityAccount, NameServers, OwnCertificate } from './keys';
import { Lookouts } from './lookouts';
import { NameUpdateSettings } from './name-update';
import { OwnNetwork } from './own-network';
import { Relay } from './relay';
import { UsesSelect } from './uses-select';
import './settings.scss';

/** What an address does by itself for those who come from outside. */
function Switches({ address }: { address: AddressSheet }) {
  const change = useChangeAddress(address.id);
  return (
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
  );
}

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
      {outward && <Switches address={address} />}
      {outward && <OwnNetwork />}
      {outward && <Relay />}
      {outward && <Lookouts />}
      {outward && <NameServers host={address.host} />}
      {outward && <NameUpdateSettings host={address.host} />}
      {outward && <AuthorityAccount />}
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
