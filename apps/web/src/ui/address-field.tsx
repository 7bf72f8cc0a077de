import type { Me } from '@quay/contract';
import { Form } from 'react-bootstrap';
import { useMe } from './session';

export type LinkAddress = Me['addresses'][number];

/** The address that a link is built on; undefined: there is none yet. */
export function useAddress(addressId: string): LinkAddress | undefined {
  const { addresses } = useMe();
  return addresses.find((a) => a.id === addressId) ?? addresses[0];
}

/** One that works from outside, where an address does not. */
export function useBetterThan(address: LinkAddress | undefined): LinkAddress | undefined {
  const { addresses } = useMe();
  return address?.portability ? addresses.find((a) => a.portability === null) : undefined;
}

/** Which address a link is built on, and whether it can be opened from outside there. */
export function AddressField({ addressId, set }: { addressId: string; set: (part: { addressId: string }) => void }) {
  const { addresses } = useMe();
  const address = useAddress(addressId);
  const better = useBetterThan(address);
  return (
    <>
      {!address && 'There is none yet, so links cannot be made.'}
      {address && addresses.length === 1 && <span className="mono">{address.text}</span>}
      {address && addresses.length > 1 && (
        <Form.Select
          size="sm"
          className="mono"
          aria-label="Address of the link"
          value={address.id}
          onChange={(e) => set({ addressId: e.target.value })}
        >
          {addresses.map((a) => (
            <option key={a.id} value={a.id}>
              {a.text}
            </option>
          ))}
        </Form.Select>
      )}
      {address?.portability && <div className="field-advice">Works only inside the office: {address.portability}</div>}
      {better && (
        <button type="button" className="btn btn-link btn-sm p-0" onClick={() => set({ addressId: better.id })}>
          Use {better.text} instead
        </button>
      )}
    </>
  );
}
