import { dayInWords, groupOf, personOf, type DirectorySchema } from '@quay/core';
import { DIRECTORY_STEPS, type DirectoryServer, type DirectoryStep, type DirectoryTrial } from '@quay/contract';
import { lookup } from 'node:dns/promises';
import { isIP } from 'node:net';
import type { Dialler } from '../platform/dialler.js';
import { openEncrypted, shownAuthority } from './encrypted.js';
import { DirectoryFault } from './fault.js';
import { DirectoryLine, type DirectoryWay } from './line.js';

/** Entries of each kind that are looked at. */
const LOOKED_AT = 200;
const NAMED = 3;
/** Steps that every server takes for itself. */
const OF_SERVERS = ['resolve', 'connect', 'certificate', 'bind'] as const satisfies DirectoryStep['step'][];

/** Goes through to the directory step by step, with every server, and tells what each step showed. */
export async function tryDirectory(dialler: Dialler, way: DirectoryWay, now: number): Promise<DirectoryTrial> {
  const steps: DirectoryStep[] = [];
  let authority: DirectoryTrial['authority'] = null;
  let inside: DirectoryStep[] | null = null;
  for (const server of way.servers) {
    const { taken, line, failed } = await throughTo(dialler, server, { ...way, now });
    steps.push(...taken);
    if (failed?.step === 'certificate' && authority === null)
      authority = await shownAuthority(dialler, server, way).catch(() => null);
    if (!line) continue;
    try {
      inside ??= await look(line, way);
    } finally {
      await line.close();
    }
  }
  steps.push(...(inside ?? skipped(null, ['base', 'entries'])));
  const works = inside !== null && inside.every((s) => s.outcome === 'ok');
  return { works, steps, authority };
}

async function throughTo(
  dialler: Dialler,
  server: DirectoryServer,
  way: DirectoryWay & { now: number },
): Promise<{ taken: DirectoryStep[]; line: DirectoryLine | null; failed: DirectoryFault | null }> {
  const at = `${server.host}:${server.port}`;
  const ok = (step: DirectoryStep['step'], words: string): DirectoryStep => ({
    ...{ step, server: at, outcome: 'ok', words, remedy: null },
  });
  const taken: DirectoryStep[] = [];
  try {
    const address = isIP(server.host) ? server.host : await lookedUp(server.host);
    taken.push(ok('resolve', address === server.host ? 'It is an address.' : `${server.host} is ${address}.`));
    const encrypted = await openEncrypted(dialler, server, way);
    const { subject, valid_to: until } = encrypted.getPeerCertificate();
    const protocol = encrypted.getProtocol() ?? 'TLS';
    encrypted.destroy();
    taken.push(ok('connect', `It answers at port ${server.port}.`));
    taken.push(
      ok(
        'certificate',
        `${protocol}; the certificate of ${String(subject.CN ?? server.host)} is good until ${dayInWords(Date.parse(until), way.now, 'UTC')}.`,
      ),
    );
    const line = await DirectoryLine.open(dialler, server, way);
    taken.push(ok('bind', 'The name and the password are accepted.'));
    return { taken, line, failed: null };
  } catch (error) {
    if (!(error instanceof DirectoryFault)) throw error;
    const { step, message: words, remedy } = error;
    const before = OF_SERVERS.slice(0, Math.max(0, OF_SERVERS.indexOf(step as 'bind')));
    const reached = before.map((s) => taken.find((t) => t.step === s) ?? ok(s, 'Done.'));
    const after = DIRECTORY_STEPS.slice(DIRECTORY_STEPS.indexOf(step) + 1).filter((s) =>
      OF_SERVERS.includes(s as 'bind'),
    );
    const failed: DirectoryStep = { step, server: at, outcome: 'failed', words, remedy };
    return { taken: [...reached, failed, ...skipped(at, after)], line: null, failed: error };
  }
}

async function lookedUp(host: string): Promise<string> {
  try {
    return (await lookup(host)).address;
  } catch {
    throw new DirectoryFault('resolve', `There is no machine called ${host}.`, 'Look at the name of the server.', true);
  }
}

async function look(line: DirectoryLine, { schema, base }: DirectoryWay): Promise<DirectoryStep[]> {
  const done: DirectoryStep[] = [];
  try {
    await line.requireBase();
    done.push({ step: 'base', server: null, outcome: 'ok', words: `${base || 'The root'} is there.`, remedy: null });
    done.push(await entriesStep(line, schema));
    return done;
  } catch (error) {
    if (!(error instanceof DirectoryFault)) throw error;
    const step = done.length === 0 ? 'base' : 'entries';
    const failed: DirectoryStep = { step, server: null, outcome: 'failed', words: error.message, remedy: error.remedy };
    return [...done, failed, ...(step === 'base' ? skipped(null, ['entries']) : [])];
  }
}

async function entriesStep(line: DirectoryLine, schema: DirectorySchema): Promise<DirectoryStep> {
  const people = (await line.first(schema.personFilter, LOOKED_AT)).map((e) => personOf(e, schema));
  const groups = (await line.first(schema.groupFilter, LOOKED_AT)).map((e) => groupOf(e, schema));
  const [whole, faults] = [people.filter((p) => !('fault' in p)), people.filter((p) => 'fault' in p)];
  const [fault] = faults;
  if (whole.length === 0)
    return {
      ...{ step: 'entries', server: null, outcome: 'failed' },
      words: fault ? `Nobody can be read: ${fault.fault}` : 'Nobody is found.',
      remedy: 'Look at the base, the filter of people and the names of attributes.',
    };
  const names = whole.slice(0, NAMED).map((p) => ('name' in p ? p.name : ''));
  const lacking = fault ? ` ${faults.length} lack something: ${fault.dn}: ${fault.fault}` : '';
  const said = `${atLeast(whole.length)} people, as ${names.join(', ')}; ${atLeast(groups.length)} groups.${lacking}`;
  return { step: 'entries', server: null, outcome: 'ok', words: said, remedy: null };
}

const atLeast = (count: number): string => (count >= LOOKED_AT ? `${count} or more` : String(count));

const skipped = (server: string | null, steps: readonly DirectoryStep['step'][]): DirectoryStep[] =>
  steps.map((step) => ({ step, server, outcome: 'skipped', words: 'Not tried.', remedy: null }));
