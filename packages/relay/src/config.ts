import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { isName } from './invitation.js';
import type { SourceLimits } from './limits.js';
import type { Limits } from './register.js';

/** How a relay is set up: relay.json in its folder. Everything may be left out but `host`. */
export interface RelayConfig {
  /** How offices call this machine: its name, or its address. */
  host: string;
  /** Where names must lead to come here; told to offices. */
  addresses: string[];
  /** Offices without a name get one below this. */
  domain: string | null;
  listen: string;
  ports: { line: number; tls: number; plain: number };
  status: { host: string; port: number };
  limits: Limits;
  sources: SourceLimits;
  /** How long visitors may go on after this process was told to end. */
  leaveSeconds: number;
}

export const USUAL: RelayConfig = {
  host: 'localhost',
  addresses: [],
  domain: null,
  listen: '::',
  ports: { line: 7443, tls: 443, plain: 80 },
  status: { host: '127.0.0.1', port: 9180 },
  limits: { visitors: 200, perSecond: 50, monthBytes: 1_000_000_000_000 },
  sources: { connections: 100, perSecond: 30, sources: 50_000 },
  leaveSeconds: 600,
};

/** @throws Error that names what is wrong */
export function readConfig(folder: string): RelayConfig {
  const file = join(folder, 'relay.json');
  if (!existsSync(file)) throw new Error(`there is no ${file}. It says at least {"host": "relay.example.org"}`);
  let read: Record<string, unknown>;
  try {
    read = JSON.parse(readFileSync(file, 'utf8')) as Record<string, unknown>;
  } catch (error) {
    throw new Error(`${file} cannot be read: ${(error as Error).message}`, { cause: error });
  }
  const unknown = Object.keys(read).filter((key) => !(key in USUAL));
  if (unknown.length > 0) throw new Error(`${file}: ${unknown.join(', ')} is not known`);
  const merged = Object.fromEntries(
    Object.entries(USUAL).map(([key, usual]) => [key, mergedValue(`${file}: ${key}`, usual, read[key])]),
  ) as unknown as RelayConfig;
  if (typeof read['host'] !== 'string') throw new Error(`${file}: "host" is missing: how offices call this machine`);
  if (merged.domain !== null && !isName(merged.domain)) throw new Error(`${file}: "domain" is no host name`);
  return merged;
}

/** What the file says in the place of what is usual, of the same kind. */
function mergedValue(what: string, usual: unknown, said: unknown): unknown {
  if (said === undefined) return usual;
  if (usual === null || Array.isArray(usual) || typeof usual !== 'object') {
    const sameKind = usual === null ? said === null || typeof said === 'string' : typeof said === typeof usual;
    if (sameKind && Array.isArray(usual) === Array.isArray(said)) return said;
    if (typeof usual === 'number' && said === null) return null;
    throw new Error(`${what} is of another kind than ${JSON.stringify(usual)}`);
  }
  if (said === null || typeof said !== 'object')
    throw new Error(`${what} is of another kind than ${JSON.stringify(usual)}`);
  const more = Object.keys(said).filter((key) => !(key in usual));
  if (more.length > 0) throw new Error(`${what}.${more.join(', ')} is not known`);
  return Object.fromEntries(
    Object.entries(usual).map(([key, value]) => [
      key,
      mergedValue(`${what}.${key}`, value, (said as Record<string, unknown>)[key]),
    ]),
  );
}
