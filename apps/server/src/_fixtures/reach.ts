import type { AddressRow, AddressSheet, ReachCheck, VantageResult } from '@quay/contract';
import type { Stage, StageResult, Vantage } from '@quay/core';
import { request, type Agent } from 'node:https';
import type { TLSSocket } from 'node:tls';
import { expect, vi } from 'vitest';
import { UpkeepService } from '../reach/upkeep.service.js';
import { openOffice, type Answer, type Client, type TestOffice } from './office.js';
import { openOutside, type Outside } from './outside.js';

export interface ReachOffice {
  outside: Outside;
  office: TestOffice;
  iris: Client;
  /** https://files.saltmarsh.example, by a mapping on the router, for visitors. */
  address: AddressRow;
  check: () => Promise<ReachCheck>;
  remedy: (act: string, vantage?: Vantage) => Promise<Answer<ReachCheck>>;
  round: () => Promise<void>;
  /** The clock goes back to the machine's; what was found in days to come is forgotten. */
  backToday: () => Promise<void>;
  fromOutside: (path: string, host?: string, body?: object | null) => Promise<FromOutside>;
  close: () => Promise<void>;
}

export interface FromOutside {
  status: number;
  headers: Record<string, unknown>;
  text: string;
  /** Of the certificate that was shown. */
  serialNumber: string;
}

export const HOST = 'files.saltmarsh.example';

/**
 * An office in the outside world, with an address that nothing was done for yet, or with all steps of its guide done.
 */
export async function openReach(wanted: 'added' | 'set up'): Promise<ReachOffice> {
  const outside = await openOutside();
  const office = await openOffice({ reach: outside.reach });
  // Certificates are from an authority whose clock is this machine's.
  office.clock.at = Date.now();
  const iris = await office.signedIn('iris');
  const asked = { wayIn: 'mapping', scheme: 'https', host: 'Files.Saltmarsh.example', port: 443, uses: 'visitors' };
  const added = await iris.ask<AddressRow>('POST', '/api/reach/addresses', asked);
  if (added.status !== 201) throw new Error(`no address: ${added.body.detail}`);
  const address = added.body;
  const at = `/api/reach/addresses/${address.id}`;
  const remedy: ReachOffice['remedy'] = async (act, vantage = 'outside') =>
    ended(iris, at, await iris.ask<ReachCheck>('POST', `${at}/remedies/${vantage}`, { act }));
  if (wanted === 'set up')
    for (const act of ['map-port', 'get-certificate', 'redirect-on']) {
      const { status, body } = await remedy(act);
      if (status !== 200) throw new Error(`${act}: ${body.detail}`);
    }
  return {
    outside,
    office,
    iris,
    address,
    remedy,
    check: async () => (await iris.ask<ReachCheck>('POST', `${at}/check`)).body,
    // The office looks after its ways in by itself too: a round that is under way is waited for.
    round: () => vi.waitFor(async () => expect(await office.app.get(UpkeepService).round()).toBe(true), 60_000),
    backToday: async () => {
      office.clock.at = Date.now();
      await office.db.query('DELETE FROM reach_check WHERE at > $1', [office.clock.date()]);
    },
    fromOutside: (path, host, body) => askAt(outside, outside.publicSide(443), path, { host, body }),
    close: async () => {
      await office.close();
      await outside.close();
    },
  };
}

/**
 * What came of a remedy: a certificate that was asked for is waited for, and one that could not be got is told as a
 * refusal is.
 * @param at the address's path
 */
export async function ended(iris: Client, at: string, answer: Answer<ReachCheck>): Promise<Answer<ReachCheck>> {
  if (!('order' in answer.body)) return answer;
  return vi.waitFor(
    async () => {
      const { body } = await iris.ask<AddressSheet>('GET', at);
      if (body.order && body.order.failure === null) throw new Error(`it is at: ${body.order.words}`);
      if (body.order) {
        const refused = { code: 'reach.certificate-failed', detail: body.order.failure };
        return { ...answer, status: 409, body: { ...answer.body, ...refused } as typeof answer.body };
      }
      return { ...answer, body: body.check as typeof answer.body };
    },
    { timeout: 60_000, interval: 100 },
  );
}

/** What was found at a stage, seen from a vantage. */
export function found(check: ReachCheck | VantageResult[], vantage: Vantage, stage: Stage): StageResult {
  const result = (Array.isArray(check) ? check : check.vantages)
    .find((v) => v.vantage === vantage)
    ?.trace?.find((s) => s.stage === stage);
  if (!result) throw new Error(`nothing was found at ${stage} from ${vantage}`);
  return result;
}

/** The key by which records are changed at the name server of a network, as the form sends it. */
export const updateKey = (outside: Outside, address: '203.0.113.53' | '192.168.40.1') => ({
  address,
  zone: 'saltmarsh.example',
  keyName: 'quay-update',
  secret: outside.updateSecret,
});

/** A request over HTTPS to a place of the outside world, as a stranger makes it: a body is posted. */
export function askAt(
  outside: Outside,
  place: { host: string; port: number },
  path: string,
  { host = HOST, body = null, agent = false }: { host?: string; body?: object | null; agent?: Agent | false } = {},
): Promise<FromOutside> {
  return new Promise((resolve, reject) => {
    request(
      {
        ...place,
        agent,
        servername: host,
        ca: outside.reach.roots,
        path,
        method: body ? 'POST' : 'GET',
        headers: { host, ...(body && { 'content-type': 'application/json' }) },
      },
      (res) => {
        const { serialNumber } = (res.socket as TLSSocket).getPeerCertificate();
        let text = '';
        res.on('data', (piece) => (text += String(piece)));
        res.on('end', () => resolve({ status: res.statusCode ?? 0, headers: res.headers, text, serialNumber }));
      },
    )
      .on('error', reject)
      .end(body ? JSON.stringify(body) : undefined);
  });
}
