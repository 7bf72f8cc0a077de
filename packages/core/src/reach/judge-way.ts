import { addressScope, isSharedLine, specialBlock } from './special.js';
import type { Judged, ReachFacts, Remedy } from './facts.js';
import { connectsBy, isLine, isSix, parentOf, seconds, staysInside } from './read-facts.js';

/** A lease of two hours (RFC 6886 §3.3) that has so little left was not renewed at its half. */
const LAPSES_SECONDS = 300;

export const openSix = (f: ReachFacts, address: string): Remedy => ({
  act: 'map-port',
  words: `Let those in who have IPv6: TCP ${f.port} → ${address}`,
});
export const firewallByHand = (f: ReachFacts, address: string): Remedy => ({
  act: null,
  words: `In the router's firewall for IPv6: let TCP ${f.port} in to ${address}`,
});

/** The record that the name should have. */
export function updateOf(f: ReachFacts): Remedy {
  const own = f.line?.seenAddress ?? f.line?.routerAddress ?? 'the public address of the office line';
  const isShared = f.line !== null && isSharedLine(f.line);
  const six = f.six?.opened ? `AAAA ${f.six.address}` : null;
  const values = isShared && six ? six : [`A ${own}`, six].filter((v) => v !== null).join(', ');
  return { act: 'update-record', words: `In the zone of ${parentOf(f.host)}: ${f.host} ${values}` };
}

/** Common practice, no source: zones have that nothing was there remembered for an hour at the most (RFC 2308 §5). */
const ABSENCE_MS = 3_600_000;

/** Who asked before the record was set goes on hearing that there is none, for a while (RFC 2308). */
function rememberedWords({ recordSetAt, at }: ReachFacts): string {
  if (!recordSetAt || at - recordSetAt > ABSENCE_MS) return '';
  return ` The record was set ${leaseWords((at - recordSetAt) / 1000)} ago; name servers that were asked before go on saying so for as long as the zone has them remember it, an hour at most.`;
}

export function judgeName(f: ReachFacts): Judged {
  if (addressScope(f.host)) return { mark: 'skipped', value: f.host, note: 'an address, no name' };
  const lookup = f.lookup;
  const update = updateOf(f);
  if (!lookup) return { mark: 'fail', value: 'not asked', reason: 'The name could not be looked up.' };
  switch (lookup.outcome) {
    case 'timeout':
      return {
        mark: 'fail',
        value: 'no answer',
        note: seconds(lookup.elapsedMs),
        reason: `No name server answered for ${f.host} within ${seconds(lookup.elapsedMs)}.`,
      };
    case 'refused':
      return {
        mark: 'fail',
        value: 'refused',
        reason: `The name server refuses to answer for ${f.host} (REFUSED): it does not serve this zone, or not for those who ask from there.`,
      };
    case 'failed':
      return {
        mark: 'fail',
        value: 'no sound answer',
        reason: `The name servers of ${parentOf(f.host)} could not be asked, or what they say does not hold (SERVFAIL).`,
      };
    case 'no-such-name':
      return {
        mark: 'fail',
        value: 'no such name',
        reason: `${f.host} is not in the zone.${rememberedWords(f)}`,
        remedies: [update],
      };
    case 'no-address':
      return { mark: 'fail', value: 'no address', reason: `${f.host} exists and has no address.`, remedies: [update] };
    case 'answered': {
      const address = lookup.addresses.find((a) => a === f.connect?.address) ?? lookup.addresses[0] ?? '';
      const note = lookup.ttlSeconds === null ? '' : `ttl ${lookup.ttlSeconds}`;
      if (staysInside(f)) return { mark: 'ok', value: address, note: 'office zone' };
      const scope = addressScope(address);
      if (scope !== 'public' && scope !== 'documentation')
        return {
          mark: 'fail',
          value: address,
          note,
          reason: `${f.host} leads to ${address}, which ${scope === 'shared' ? 'lies behind the provider' : 'only the office network knows'} (${specialBlock(address)?.source ?? 'no address'}).`,
          remedies: [update],
        };
      const elsewhere = f.wayIn === 'mapping' ? leadsElsewhere(f, lookup, update) : null;
      if (elsewhere) return { note, ...elsewhere };
      return { mark: 'ok', value: address, note };
    }
  }
}

/** Whether a name leads past the office line; null: it does not. */
function leadsElsewhere(
  f: ReachFacts,
  { addresses, ttlSeconds }: NonNullable<ReachFacts['lookup']>,
  update: Remedy,
): Pick<Judged, 'value' | 'mark' | 'reason' | 'remedies'> | null {
  const seen = f.line?.seenAddress ?? f.line?.routerAddress ?? null;
  if (seen === null || addresses.some((a) => isLine(f, a))) return null;
  const six = addresses.find((a) => isSix(f, a));
  const four = addresses.find((a) => !a.includes(':'));
  // What many customers share is nowhere to lead a name.
  if (six && !four && f.line && isSharedLine(f.line)) return null;
  const wait = ttlSeconds ? ` After the change, old answers are remembered for up to ${ttlSeconds} seconds.` : '';
  if (six && !four)
    return {
      value: six,
      mark: 'warn',
      reason: `${f.host} leads to this server over IPv6 only; whoever has only IPv4 does not find it.${wait}`,
      remedies: [update],
    };
  const value = four ?? addresses[0] ?? '';
  return {
    value,
    mark: six && connectsBy(f, 6) ? 'warn' : 'fail',
    reason: `${f.host} still leads to ${value}; the office line is ${seen} now.${wait}`,
    remedies: [update],
  };
}

export function judgeLine(f: ReachFacts): Judged {
  if (f.wayIn === 'relay') return { mark: 'skipped', value: '–', note: 'through the relay' };
  if (staysInside(f)) return { mark: 'skipped', value: '–' };
  if (!f.line) return { mark: 'skipped', value: 'not known' };
  const { seenAddress, routerAddress } = f.line;
  const relay: Remedy = { act: 'use-relay', words: 'Use the relay: it needs no open port.' };
  const scope = routerAddress && addressScope(routerAddress);
  if (isSharedLine(f.line)) return judgeShared(f, relay);
  if (scope === 'private' || (routerAddress !== null && seenAddress !== null && routerAddress !== seenAddress))
    return {
      mark: 'fail',
      value: routerAddress ?? '',
      note: 'behind another router',
      reason: `The router's own outside address is ${routerAddress}; the world sees ${seenAddress ?? 'another'}. There is a second router in front of it, which must pass the port on too.`,
      remedies: [
        {
          act: null,
          words: `On the router in front: external TCP ${f.port} → ${routerAddress} port ${f.port}, or switch it to bridge mode`,
        },
        relay,
      ],
    };
  if (seenAddress === null && routerAddress === null)
    return {
      mark: 'warn',
      value: 'not known',
      reason: 'Neither the router nor the world could tell the address of the line.',
    };
  return { mark: 'ok', value: 'public', note: 'not shared' };
}

/** A line that many customers share takes no connections; over IPv6 people may come all the same. */
function judgeShared(f: ReachFacts, relay: Remedy): Judged {
  const { routerAddress } = f.line ?? {};
  const ask: Remedy = { act: null, words: 'Ask the provider for a public address of your own.' };
  const shared = routerAddress
    ? `The provider gives the line ${routerAddress}, which many customers share (RFC 6598).`
    : 'The router says that it has no public address of its own: the provider, or another router, shares one out.';
  // Whatever the router says of itself: somebody came in.
  if (!routerAddress && connectsBy(f, 4)) return { mark: 'ok', value: 'public', note: 'seen from outside' };
  if (connectsBy(f, 6))
    return {
      mark: 'warn',
      value: 'IPv6 only',
      note: 'IPv4 shared',
      reason: `${shared} Whoever has IPv6 gets in; whoever has only IPv4 cannot. Through the relay all do.`,
      remedies: [relay, ask],
    };
  return {
    mark: 'fail',
    value: routerAddress ?? 'no address',
    note: 'shared',
    reason: `${shared} Nobody outside can open a connection to it.`,
    remedies: [...(f.six ? [openSix(f, f.six.address)] : []), ask, relay],
  };
}

/** Where the router knows of no mapping to this server, as far as it says. */
function judgeUnmapped(f: ReachFacts, map: Remedy, byHand: Remedy): Judged {
  const m = f.mapping;
  if (m?.outcome === 'taken')
    return {
      mark: 'fail',
      value: `${f.port} taken`,
      reason: `Port ${f.port} of the router already leads to ${m.internal ? `${m.internal.address} port ${m.internal.port}` : 'another device'}.`,
      remedies: [
        {
          act: null,
          words: `On the router: remove the mapping of external TCP ${f.port}, or choose another port for the address`,
        },
      ],
    };
  // Protocols know of forwards only what they made themselves: one that lets people in was made on the router's pages.
  if (connectsBy(f, 4)) return { mark: 'ok', value: `${f.port} → ${f.server.port}`, note: 'set by hand' };
  if (!m || m.outcome === 'no-protocol')
    return {
      mark: 'fail',
      value: 'no mapping',
      note: m ? 'no protocol' : 'not asked',
      reason: m
        ? 'The router speaks none of the protocols for mappings (PCP, NAT-PMP, UPnP), so the mapping must be made by hand.'
        : 'The router was not asked.',
      remedies: [byHand],
    };
  if (m.outcome === 'refused')
    return {
      mark: 'fail',
      value: 'refused',
      reason: 'The router refuses to make mappings.',
      remedies: [{ act: null, words: "Allow mappings in the router's settings" }, byHand],
    };
  return {
    mark: 'fail',
    value: 'no mapping',
    reason: `Nothing tells the router where requests for port ${f.port} go.`,
    remedies: [map, byHand],
  };
}

/** A record of the office's own leads to a port that answers there, or it is none. */
function inside(f: ReachFacts): Remedy {
  if (f.insideAnswers === false)
    return {
      act: null,
      words: `Let the server also listen on TCP ${f.port} inside (the file's "tls"); then the name can lead to ${f.server.address} on this network`,
    };
  return {
    act: 'office-record',
    words: `On the name server of this network answer ${f.host} with ${f.server.address}`,
  };
}

/** The router does not send a request for its own public address back in. */
function noLoopback(f: ReachFacts): Judged {
  return {
    mark: 'fail',
    value: 'no loopback',
    note: f.connect ? seconds(f.connect.elapsedMs) : '',
    reason: `The router does not send a request for its own public address (${f.connect?.address ?? f.lookup?.addresses[0]}) back into the office.`,
    remedies: [
      inside(f),
      { act: null, words: 'Or switch on loopback for port mappings on the router' },
      { act: null, words: 'Or give these people links on an address that goes through the relay' },
    ],
  };
}

export function judgeRouter(f: ReachFacts): Judged {
  if (f.wayIn !== 'mapping' || staysInside(f)) return { mark: 'skipped', value: '–' };
  const bySix = connectsBy(f, 6);
  if (bySix && !connectsBy(f, 4) && f.line && isSharedLine(f.line))
    return { mark: 'ok', value: `IPv6 ${f.port} open`, note: f.six?.opened ? '' : 'set by hand' };
  const judged = judgeForward(f);
  if (!bySix) return judged;
  if (judged.mark === 'fail')
    return { ...judged, mark: 'warn', reason: `${judged.reason} Whoever has IPv6 gets in all the same.` };
  return { ...judged, note: [judged.note, 'IPv6 open'].filter(Boolean).join(', ') };
}

/** How the router leads requests over IPv4 here. */
function judgeForward(f: ReachFacts): Judged {
  const wanted = `external TCP ${f.port} → ${f.server.address} port ${f.server.port}`;
  const byHand: Remedy = { act: null, words: `On the router: ${wanted}` };
  const map: Remedy = { act: 'map-port', words: `Open it: ${wanted}` };
  const m = f.mapping;
  const connected = connectsBy(f, 4);
  if (m?.outcome !== 'present') {
    // What lets people in from outside is forwarded, whatever the router says of it.
    const isForwarded = f.vantage !== 'outside' && !connected && f.outsideConnects === true && m?.outcome !== 'taken';
    return isForwarded ? noLoopback(f) : judgeUnmapped(f, map, byHand);
  }
  const to = m.internal;
  if (to && (to.address !== f.server.address || to.port !== f.server.port))
    return {
      mark: 'fail',
      value: `${m.externalPort} → ${to.port}`,
      reason: `Port ${m.externalPort} leads to ${to.address} port ${to.port}; the server is ${f.server.address} port ${f.server.port}.`,
      remedies: [map, byHand],
    };
  const lease = m.leaseSecondsLeft === null ? '' : `lease ${leaseWords(m.leaseSecondsLeft)}`;
  const value = `${m.externalPort ?? f.port} → ${f.server.port}`;
  if (f.vantage !== 'outside' && !connected) return noLoopback(f);
  // Some routers give short leases only, which are renewed as soon as half of them is over.
  if (m.leaseSecondsLeft !== null && m.leaseSecondsLeft < Math.min(LAPSES_SECONDS, (m.leaseSeconds ?? Infinity) / 4))
    return {
      mark: 'warn',
      value,
      note: lease,
      reason: 'The mapping is about to lapse and has not been renewed.',
      remedies: [map],
    };
  return { mark: 'ok', value, note: lease };
}

export function judgePort(f: ReachFacts): Judged {
  const c = f.connect;
  if (!c) return { mark: 'fail', value: 'not tried', reason: 'No connection was tried.' };
  const where = `${c.address} port ${staysInside(f) ? f.server.port : f.port}`;
  switch (c.outcome) {
    case 'connected':
      return { mark: 'ok', value: 'listening', note: `${Math.round(c.elapsedMs)} ms` };
    case 'refused':
      return {
        mark: 'fail',
        value: 'refused',
        reason: `${where} answers that nothing listens there.`,
        remedies: [{ act: null, words: `Let the server listen on port ${f.server.port}, and the mapping lead to it` }],
      };
    case 'timeout':
      return {
        mark: 'fail',
        value: 'no answer',
        note: seconds(c.elapsedMs),
        reason: `${where} did not answer within ${seconds(c.elapsedMs)}: a firewall drops the request, or the address is wrong.`,
        remedies: [{ act: null, words: `In the firewalls of router and server: let TCP ${f.server.port} in` }],
      };
    case 'unreachable':
      return { mark: 'fail', value: 'unreachable', reason: `There is no way to ${c.address} from here.` };
  }
}

/** "2 h 41 min", "4 min": what is left of a lease. */
export function leaseWords(secondsLeft: number): string {
  const minutes = Math.floor(secondsLeft / 60);
  if (minutes < 1) return `${Math.max(0, Math.floor(secondsLeft))} s`;
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}
