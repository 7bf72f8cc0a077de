import { AddressField, useAddress, useBetterThan, type LinkAddress } from '../ui/address-field';
import { ReachLamp } from '../ui/reach-lamp';
import { useSlip } from './store';

/** The address that the link is built on; undefined: there is none yet. */
export function useChosenAddress(): LinkAddress | undefined {
  return useAddress(useSlip().addressId);
}

/** One that works from outside, where the chosen one does not. */
export function useBetterAddress(): LinkAddress | undefined {
  return useBetterThan(useChosenAddress());
}

export function Address() {
  const { addressId, set } = useSlip();
  return <AddressField addressId={addressId} set={set} />;
}

/** Whether the link that is about to be made can be opened by those it is for. */
export function SlipLamp() {
  const address = useChosenAddress();
  return address ? <ReachLamp mark={address.reach} portability={address.portability} /> : null;
}
