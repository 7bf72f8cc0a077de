import type { QuayEvent } from '@quay/contract';
import { expect } from 'vitest';
import type { Client } from './office.js';

/** Listens to a stream: what has been told so far, and whether it has ended. */
export async function listen(by: Client, path = '/api/events') {
  const stop = new AbortController();
  const response = await by.fetch(path, { signal: stop.signal });
  const heard: QuayEvent[] = [];
  const state = { ended: false };
  const reading = (async () => {
    const decoder = new TextDecoder();
    let text = '';
    for await (const piece of response.body as unknown as AsyncIterable<Uint8Array>) {
      text += decoder.decode(piece, { stream: true });
      for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
        const line = text.slice(0, end);
        text = text.slice(end + 2);
        if (line.startsWith('data: ')) heard.push(JSON.parse(line.slice(6)) as QuayEvent);
      }
    }
  })()
    .catch(() => undefined)
    .finally(() => (state.ended = true));
  return { status: response.status, heard, state, stop: () => (stop.abort(), reading) };
}
/** Waits for what comes by itself. */
export const until = async (holds: () => boolean) => {
  for (let tries = 0; tries < 60 && !holds(); tries += 1) await new Promise((resolve) => setTimeout(resolve, 50));
  expect(holds()).toBe(true);
};
/** Long enough that what was to come would have come. */
export const quiet = () => new Promise((resolve) => setTimeout(resolve, 500));
