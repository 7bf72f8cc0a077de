import { addressScope, isSharedLine, type LineAddresses } from './special.js';
import type { WayIn } from './facts.js';

/** What is known of the office's network before anything is asked. */
export interface OwnNetworkFacts extends LineAddresses {
  /** This machine's address on the network that the router is on. */
  insideAddress: string;
  gateway: string | null;
  /** This machine's own public address over IPv6; null: it has none. */
  insideAddress6: string | null;
  /** What the router opens ports by; null: it does not do that. */
  protocol: 'pcp' | 'nat-pmp' | 'upnp' | null;
  /** A relay has invited the office. */
  hasRelay: boolean;
}

export interface WayAdvised {
  /** The way in that fits; null: that cannot be told. */
  wayIn: Exclude<WayIn, 'office'> | null;
  words: string;
}

const isPublic = (address: string): boolean => {
  const scope = addressScope(address);
  return scope === 'public' || scope === 'documentation';
};

const lowered = (words: string): string => words.charAt(0).toLowerCase() + words.slice(1);

/** Which way in fits this network, in one line. */
export function adviseWay(facts: OwnNetworkFacts): WayAdvised {
  const { insideAddress, insideAddress6, gateway, seenAddress, routerAddress, protocol, hasRelay } = facts;
  const byRelay = hasRelay
    ? 'Go through the relay.'
    : 'Go through a relay: accept the invitation of one under Settings.';
  const whose = routerAddress ? `${routerAddress}, which many customers share` : 'as the router says';
  if (isPublic(insideAddress))
    return {
      wayIn: 'fixed',
      words: `This machine has the public address ${insideAddress} itself: let a name lead to it, and open its ports in its firewall.`,
    };
  if (isSharedLine(facts))
    return {
      wayIn: 'relay',
      words: insideAddress6
        ? `The line has no IPv4 address of its own (${whose}); over IPv6 this machine has an address of its own (${insideAddress6}). With an own address only people who have IPv6 get in; for everybody: ${lowered(byRelay)}`
        : `The line has no address of its own (${whose}), so nobody outside can come to it. ${byRelay}`,
    };
  if (routerAddress !== null && (!isPublic(routerAddress) || (seenAddress !== null && seenAddress !== routerAddress)))
    return {
      wayIn: 'relay',
      words: `Another router stands before this one, which has ${routerAddress}. Have that one pass the ports on too, or: ${lowered(byRelay)}`,
    };
  if (protocol !== null)
    return {
      wayIn: 'mapping',
      words: `The line has a public address (${routerAddress ?? seenAddress}) and the router opens ports when it is asked: with an address of your own the program does everything.`,
    };
  if (seenAddress !== null)
    return {
      wayIn: 'mapping',
      words: `The router opens no ports by itself. Open them on its pages, which the guide has the values for; where it cannot: ${lowered(byRelay)}`,
    };
  return {
    wayIn: null,
    words: gateway
      ? `The router ${gateway} says nothing of its line, and nobody outside was asked. Try an own address first; where nobody gets in: ${lowered(byRelay)}`
      : 'No router was found, so nothing is known of the line. Name it in the file about the network.',
  };
}
