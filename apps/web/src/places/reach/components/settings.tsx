import type { AddressSheet, AddressUses } from '@quay/contract';
import { Button, Form } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { useChangeAddress, useRemoveAddress } from '../queries';
import { USES_WORDS } from '../words';

/** What an address may be used for, and its end. */
export function Settings({ address }: { address: AddressSheet }) {
  const change = useChangeAddress(address.id);
  const remove = useRemoveAddress(address.id);
  const navigate = useNavigate();
  return (
    <div className="reach-settings">
      <Form.Group controlId="uses">
        <Form.Label>May be used for</Form.Label>
        <Form.Select className="w-auto" value={address.uses} onChange={(e) => change.mutate({ uses: e.target.value as AddressUses })}>
          {(Object.keys(USES_WORDS) as AddressUses[]).map((u) => (
            <option key={u} value={u}>
              {USES_WORDS[u]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Check type="switch" id="redirect" label="Send plain requests to the encrypted address" checked={address.redirect} onChange={(e) => change.mutate({ redirect: e.target.checked })} />
      <Form.Check type="switch" id="hsts" label="Tell browsers to keep to https for half a year (HSTS)" checked={address.hsts} onChange={(e) => change.mutate({ hsts: e.target.checked })} />
      <div className="d-flex gap-2">
        {!address.isDefault && (
          <Button variant="plain" disabled={change.isPending} onClick={() => change.mutate({ isDefault: true })}>
            Build new links on it
          </Button>
        )}
        <Button variant="plain" className="harm" disabled={remove.isPending || address.isDefault || address.shareCount > 0} onClick={() => remove.mutate(undefined, { onSuccess: () => void navigate('/reach') })}>
          Remove this address
        </Button>
      </div>
      {(address.isDefault || address.shareCount > 0) && <p className="small quiet mb-0">{address.shareCount > 0 ? 'It can be removed once no link that could still be opened is built on it: see Links.' : 'New links are built on it, so it stays until another takes that over.'}</p>}
    </div>
  );
}
