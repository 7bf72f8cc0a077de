import type { ProblemBody } from '@quay/contract';
import { say } from './words';

export const AWAY: Partial<ProblemBody> = { code: 'network.away', detail: say('away') };

export type Asked<Answer> = { answer: Answer } | { problem: Partial<ProblemBody> };

/**
 * A way to ask for something below the link: with a body it is a change.
 * @param headers what every request says of itself
 */
export const asker =
  (base: string, headers: () => Record<string, string> = () => ({})) =>
  async <Answer>(path: string, body?: unknown): Promise<Asked<Answer>> => {
    const request: RequestInit =
      body === undefined
        ? { headers: headers() }
        : {
            method: 'POST',
            headers: { 'Content-Type': 'application/json', ...headers() },
            body: JSON.stringify(body),
          };
    const response = await fetch(`${base}/${path}`, request).catch(() => null);
    if (!response) return { problem: AWAY };
    const answer = (await response.json().catch(() => AWAY)) as Answer & Partial<ProblemBody>;
    return response.ok ? { answer } : { problem: answer };
  };
