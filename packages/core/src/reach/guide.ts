import { addressText, portOf, type Address } from '../link/link.js';
import type { WayIn } from './facts.js';

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
  /** This server's own public address over IPv6; null: it has none. */
  six: string | null;
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
  return STEPS_OF[facts.wayIn].map((step) => ({ step, ...ENTRIES[step](facts) }));
}

const STEPS_OF: Record<WayIn, GuideStep[]> = {
  mapping: ['record', 'mapping', 'certificate', 'redirect', 'closed'],
  fixed: ['record', 'certificate', 'redirect', 'closed'],
  relay: ['relay', 'record', 'certificate', 'closed'],
  office: [],
};

const ENTRIES: Record<GuideStep, (facts: GuideFacts) => Omit<GuideEntry, 'step'>> = {
  record: (facts) => (facts.wayIn === 'relay' ? relayRecord(facts) : lineRecord(facts)),
  mapping: ({ address, server, six }) => ({
    title: 'Open the port on the router',
    why: 'Requests from outside end at the router until it is told where they go.',
    values: [
      { label: 'Encrypted', value: `external TCP ${portOf(address)} → ${server.address} port ${server.tlsPort}` },
      { label: 'Redirect', value: `external TCP 80 → ${server.address} port ${server.plainPort}` },
      ...(six ? [{ label: 'IPv6 firewall', value: `let TCP ${portOf(address)} and TCP 80 in to ${six}` }] : []),
    ],
    cannot: null,
  }),
  relay: ({ relayHost }) => ({
    title: 'Connect to the relay',
    why: 'The server keeps a connection outwards; requests come in through it, and no port is opened.',
    values: [{ label: 'Relay', value: relayHost ?? 'none is known' }],
    cannot: relayHost ? null : 'No relay has invited the office, or it has not answered yet.',
  }),
  certificate: ({ address: { host } }) => ({
    title: 'Get a certificate',
    why: 'Without one browsers warn everybody away, and passwords travel readable.',
    values: [
      { label: 'Name', value: host },
      {
        label: 'Proof',
        value: `http://${host}/.well-known/acme-challenge/…, or a TXT record of _acme-challenge.${host}`,
      },
    ],
    cannot: null,
  }),
  redirect: ({ address }) => ({
    title: 'Send plain requests to the encrypted address',
    why: 'Nobody types https; and browsers should remember it.',
    values: [
      { label: 'Redirect', value: `http://${address.host}/… → ${addressText(address)}/… (301)` },
      { label: 'Header', value: 'Strict-Transport-Security: max-age=15552000' },
    ],
    cannot: null,
  }),
  closed: ({ wayIn, address }) => ({
    title: 'See that everything else stays closed',
    why: 'What answers from outside is what can be attacked.',
    values: [
      { label: 'Open', value: wayIn === 'relay' ? 'nothing' : `TCP ${portOf(address)} and TCP 80` },
      { label: 'Closed', value: 'everything else' },
    ],
    cannot: null,
  }),
};

const RECORD_TITLE = 'Let the name lead to the office';
const NO_KEY = 'Nothing is known that takes updates for the name: a name server with a key, an address, or a program.';

function relayRecord({ address, relayHost, canUpdateRecords }: GuideFacts): Omit<GuideEntry, 'step'> {
  return {
    title: RECORD_TITLE,
    why: 'The name leads to the relay, which passes requests on unopened.',
    values: [{ label: 'Record', value: `${address.host} A ${relayHost ?? 'the address of the relay'}` }],
    cannot: canUpdateRecords ? null : NO_KEY,
  };
}

function lineRecord({ address, publicAddress, six, canUpdateRecords }: GuideFacts): Omit<GuideEntry, 'step'> {
  const unknown = publicAddress === null ? 'The address of the line is not known yet.' : null;
  return {
    title: RECORD_TITLE,
    why: 'Whoever types the name must arrive at the office line.',
    values: [
      { label: 'Record', value: `${address.host} A ${publicAddress ?? 'the address of your line'}` },
      ...(six ? [{ label: 'IPv6, once its port is open', value: `${address.host} AAAA ${six}` }] : []),
      { label: 'Time to live', value: '300 seconds' },
    ],
    cannot: canUpdateRecords ? unknown : NO_KEY,
  };
}
