import type { Me } from '@quay/contract';
import { Form } from 'react-bootstrap';
import { ReachLamp } from '../ui/reach-lamp';
import { useMe } from '../ui/session';
import { useSlip } from './store';

/** The address that the link is built on; undefined: there is none yet. */
export function useChosenAddress(): Me['addresses'][number] | undefined {
  const { addresses } = useMe();
  const { addressId } = useSlip();
  return addresses.find((a) => a.id === addressId) ?? addresses[0];
}

/** One that works from outside, where the chosen one does not. */
export function useBetterAddress(): Me['addresses'][number] | undefined {
  const { addresses } = useMe();
  return useChosenAddress()?.portability ? addresses.find((a) => a.portability === null) : undefined;
}

export function Address() {
  const { addresses } = useMe();
  const slip = useSlip();
  const address = useChosenAddress();
  const better = useBetterAddress();
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
          onChange={(e) => slip.set({ addressId: e.target.value })}
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
        <button type="button" className="btn btn-link btn-sm p-0" onClick={() => slip.set({ addressId: better.id })}>
          Use {better.text} instead
        </button>
      )}
    </>
  );
}

/** Whether the link that is about to be made can be opened by those it is for. */
export function SlipLamp() {
  const address = useChosenAddress();
  return address ? <ReachLamp mark={address.reach} portability={address.portability} /> : null;
}
