import {
  CLASS,
  encodeName,
  OPCODE,
  RCODE,
  readName,
  TYPE,
  u32,
  type Message,
  type Question,
  type ResourceRecord,
} from './codec.js';

/** One zone: its records by name, kept in memory. Pure: every change makes a new zone. */
export interface Zone {
  origin: string;
  records: readonly ResourceRecord[];
}

export interface NameFaults {
  /** Answers nothing at all. */
  silent: boolean;
  /** Answers SERVFAIL. */
  failing: boolean;
  /** Keeps what others told it for as long as they said (RFC 1034 §5.3.3), that there is nothing too (RFC 2308). */
  caches: boolean;
}

/** A zone with its SOA and NS records. */
export function newZone(origin: string, nameServer: string, serial: number): Zone {
  const soa = Buffer.concat([
    encodeName(nameServer),
    encodeName(`hostmaster.${origin}`),
    u32(serial),
    u32(3600),
    u32(600),
    u32(604_800),
    u32(60),
  ]);
  return {
    origin,
    records: [record(origin, TYPE.SOA, 300, soa), record(origin, TYPE.NS, 300, encodeName(nameServer))],
  };
}

export function record(name: string, type: number, ttl: number, data: Buffer): ResourceRecord {
  return { name, type, class: CLASS.IN, ttl, data };
}

export function addressRecord(name: string, address: string, ttl: number): ResourceRecord {
  return record(name, TYPE.A, ttl, Buffer.from(address.split('.').map(Number)));
}

export function withRecord(zone: Zone, added: ResourceRecord): Zone {
  return {
    ...zone,
    records: [
      ...zone.records.filter((r) => !(r.name === added.name && r.type === added.type && r.data.equals(added.data))),
      added,
    ],
  };
}

/** The zone that a name belongs to: the one with the longest origin. */
export function zoneOf(zones: readonly Zone[], name: string): Zone | null {
  const holding = zones.filter((z) => name === z.origin || name.endsWith(`.${z.origin}`));
  return holding.sort((a, b) => b.origin.length - a.origin.length)[0] ?? null;
}

/** Zones as a network sees them whose own name server answers some names differently. */
export function overlaid(zones: readonly Zone[], own: readonly Zone[]): readonly Zone[] {
  return zones.map((zone) => {
    const mine =
      own.find((z) => z.origin === zone.origin)?.records.filter((r) => r.type !== TYPE.SOA && r.type !== TYPE.NS) ?? [];
    return {
      ...zone,
      records: [...zone.records.filter((r) => !mine.some((m) => m.name === r.name && m.type === r.type)), ...mine],
    };
  });
}

/** Answers a query (RFC 1034 §4.3.2 for one authoritative server without delegations; aliases are followed within the zone). */
export function answerQuery(zones: readonly Zone[], message: Message): Message {
  const base = replyTo(message);
  const [question] = message.questions;
  if (!question || message.questions.length !== 1) return { ...base, rcode: RCODE.FORMERR };
  const zone = zoneOf(zones, question.name);
  if (!zone) return { ...base, rcode: RCODE.REFUSED };
  const answers: ResourceRecord[] = [];
  let name = question.name;
  for (let hops = 0; hops < 8; hops += 1) {
    const here = zone.records.filter((r) => r.name === name);
    const wanted = here.filter((r) => r.type === question.type || question.type === TYPE.ANY);
    answers.push(...wanted);
    const alias = wanted.length === 0 ? here.find((r) => r.type === TYPE.CNAME) : undefined;
    if (!alias) break;
    answers.push(alias);
    name = readName(alias.data, 0).name;
  }
  const exists =
    answers.length > 0 || zone.records.some((r) => r.name === question.name || r.name.endsWith(`.${question.name}`));
  const soa = zone.records.find((r) => r.name === zone.origin && r.type === TYPE.SOA);
  return {
    ...base,
    authoritative: true,
    rcode: exists ? RCODE.NOERROR : RCODE.NXDOMAIN,
    answers,
    authorities: answers.length === 0 && soa ? [soa] : [],
  };
}

/** Applies an update as RFC 2136 §3 says: zone, prerequisites, all changes checked, then made. */
export function applyUpdate(zones: readonly Zone[], message: Message): { answer: Message; zones: readonly Zone[] } {
  const refuse = (rcode: number) => ({ answer: { ...replyTo(message), rcode }, zones });
  const [asked] = message.questions;
  if (message.questions.length !== 1 || !asked || asked.type !== TYPE.SOA) return refuse(RCODE.FORMERR);
  const zone = zones.find((z) => z.origin === asked.name);
  if (!zone) return refuse(RCODE.NOTAUTH);
  for (const prerequisite of message.answers) {
    const fault = prerequisiteFault(zone, prerequisite);
    if (fault !== RCODE.NOERROR) return refuse(fault);
  }
  for (const change of message.authorities) {
    if (!inZone(zone, change)) return refuse(RCODE.NOTZONE);
    if (![CLASS.IN, CLASS.ANY, CLASS.NONE].includes(change.class as 1)) return refuse(RCODE.FORMERR);
  }
  const changed = message.authorities.reduce(applyChange, zone);
  const next = changed === zone ? zone : withNextSerial(changed);
  return { answer: replyTo(message), zones: zones.map((z) => (z === zone ? next : z)) };
}

const inZone = (zone: Zone, r: Question): boolean => r.name === zone.origin || r.name.endsWith(`.${zone.origin}`);

/** RFC 2136 §3.2. */
function prerequisiteFault(zone: Zone, p: ResourceRecord): number {
  if (p.ttl !== 0) return RCODE.FORMERR;
  if (!inZone(zone, p)) return RCODE.NOTZONE;
  const named = zone.records.filter((r) => r.name === p.name);
  const typed = named.filter((r) => r.type === p.type);
  if (p.class === CLASS.ANY)
    return p.type === TYPE.ANY
      ? named.length
        ? RCODE.NOERROR
        : RCODE.NXDOMAIN
      : typed.length
        ? RCODE.NOERROR
        : RCODE.NXRRSET;
  if (p.class === CLASS.NONE)
    return p.type === TYPE.ANY
      ? named.length
        ? RCODE.YXDOMAIN
        : RCODE.NOERROR
      : typed.length
        ? RCODE.YXRRSET
        : RCODE.NOERROR;
  return typed.some((r) => r.data.equals(p.data)) ? RCODE.NOERROR : RCODE.NXRRSET;
}

/** RFC 2136 §3.4.2. The zone's own SOA and NS records are not removed. */
function applyChange(zone: Zone, change: ResourceRecord): Zone {
  const guarded = (r: ResourceRecord) => r.name === zone.origin && (r.type === TYPE.SOA || r.type === TYPE.NS);
  const without = (gone: (r: ResourceRecord) => boolean): Zone => ({
    ...zone,
    records: zone.records.filter((r) => guarded(r) || !gone(r)),
  });
  if (change.class === CLASS.ANY)
    return without((r) => r.name === change.name && (change.type === TYPE.ANY || r.type === change.type));
  if (change.class === CLASS.NONE)
    return without((r) => r.name === change.name && r.type === change.type && r.data.equals(change.data));
  const alone = change.type === TYPE.CNAME ? without((r) => r.name === change.name) : zone;
  return withRecord(alone, { ...change, class: CLASS.IN });
}

function withNextSerial(zone: Zone): Zone {
  return {
    ...zone,
    records: zone.records.map((r) => {
      if (r.type !== TYPE.SOA) return r;
      const data = Buffer.from(r.data);
      const at = readName(data, readName(data, 0).next).next;
      data.writeUInt32BE((data.readUInt32BE(at) + 1) >>> 0, at);
      return { ...r, data };
    }),
  };
}

/** An empty answer to a message. */
export function replyTo(message: Message): Message {
  return {
    ...message,
    response: true,
    authoritative: false,
    truncated: false,
    rcode: RCODE.NOERROR,
    answers: [],
    authorities: [],
    additionals: [],
  };
}

export const isUpdate = (message: Message): boolean => message.opcode === OPCODE.UPDATE;
