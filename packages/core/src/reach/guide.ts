import { addressText, portOf, type Address } from '../link/link.js';
import type { WayIn } from './trace.js';

/** The steps of setting up a way in, in the order in which each needs the one before. */
export const GUIDE_STEPS = ['record', 'mapping', 'relay', 'certificate', 'redirect', 'closed'] as const;
export type GuideStep = (typeof GUIDE_STEPS)[number];

/** What the steps' exact values are made of. */
export interface GuideFacts {
  wayIn: WayIn;
  address: Address;
  server: { address: string; tlsPort: number; plainPort: number };
  /** The address of the line as the world sees it; null while that is not known. */
  publicAddress: string | null;
  /** The name server takes signed updates from the program. */
  canUpdateRecords: boolean;
  relayHost: string | null;
}

export interface GuideEntry {
  step: GuideStep;
  title: string;
  why: string;
  /** Exact values for doing it by hand. */
  values: { label: string; value: string }[];
  /** Whether the program can do it; if not, why. */
  cannot: string | null;
}

/** The numbered steps for an address. Doing them in this order leaves nothing to come back to. */
export function guideOf(facts: GuideFacts): GuideEntry[] {
  const { wayIn, address, server } = facts;
  const port = portOf(address);
  const target = wayIn === 'relay' ? null : facts.publicAddress;
  const record: GuideEntry = {
    step: 'record',
    title: 'Let the name lead to the office',
    why:
      wayIn === 'relay'
        ? 'The name leads to the relay, which passes requests on unopened.'
        : 'Whoever types the name must arrive at the office line.',
    values:
      wayIn === 'relay'
        ? [{ label: 'Record', value: `${address.host} A ${facts.relayHost ?? 'the address of the relay'}` }]
        : [
            { label: 'Record', value: `${address.host} A ${target ?? 'the address of your line'}` },
            { label: 'Time to live', value: '300 seconds' },
          ],
    cannot: facts.canUpdateRecords
      ? target === null && wayIn !== 'relay'
        ? 'The address of the line is not known yet.'
        : null
      : 'No name server with a key is known that takes updates.',
  };
  const mapping: GuideEntry = {
    step: 'mapping',
    title: 'Open the port on the router',
    why: 'Requests from outside end at the router until it is told where they go.',
    values: [
      { label: 'Encrypted', value: `external TCP ${port} → ${server.address} port ${server.tlsPort}` },
      { label: 'Redirect', value: `external TCP 80 → ${server.address} port ${server.plainPort}` },
    ],
    cannot: null,
  };
  const certificate: GuideEntry = {
    step: 'certificate',
    title: 'Get a certificate',
    why: 'Without one browsers warn everybody away, and passwords travel readable.',
    values: [
      { label: 'Name', value: address.host },
      {
        label: 'Proof',
        value: `http://${address.host}/.well-known/acme-challenge/…, or a TXT record of _acme-challenge.${address.host}`,
      },
    ],
    cannot: null,
  };
  const redirect: GuideEntry = {
    step: 'redirect',
    title: 'Send plain requests to the encrypted address',
    why: 'Nobody types https; and browsers should remember it.',
    values: [
      { label: 'Redirect', value: `http://${address.host}/… → ${addressText(address)}/… (301)` },
      { label: 'Header', value: 'Strict-Transport-Security: max-age=15552000' },
    ],
    cannot: null,
  };
  const closed: GuideEntry = {
    step: 'closed',
    title: 'See that everything else stays closed',
    why: 'What answers from outside is what can be attacked.',
    values: [
      { label: 'Open', value: wayIn === 'relay' ? 'nothing' : `TCP ${port} and TCP 80` },
      { label: 'Closed', value: 'everything else' },
    ],
    cannot: null,
  };
  switch (wayIn) {
    case 'mapping':
      return [record, mapping, certificate, redirect, closed];
    case 'fixed':
      return [record, certificate, redirect, closed];
    case 'relay':
      return [
        {
          step: 'relay',
          title: 'Connect to the relay',
          why: 'The server keeps a connection outwards; requests come in through it, and no port is opened.',
          values: [{ label: 'Relay', value: facts.relayHost ?? 'none is known' }],
          cannot: facts.relayHost ? null : 'No relay is known.',
        },
        record,
        certificate,
        closed,
      ];
    case 'office':
      return [];
  }
}
