import type { Strength } from '@quay/core/strength';
import { createRequire } from 'node:module';
import { pathToFileURL } from 'node:url';
import { Worker } from 'node:worker_threads';
import { aside } from './aside.js';
import { invalidField } from './problems/problem.js';

const module = pathToFileURL(createRequire(import.meta.url).resolve('@quay/core/strength')).href;
const THREAD = `
const { parentPort, workerData } = require('node:worker_threads');
import(workerData).then(({ passwordStrength }) => parentPort.on('message', ({ id, password, context }) => parentPort.postMessage({ id, strength: passwordStrength(password, context) })));`;
/** The thread ends when nobody has asked for this long. */
const IDLE_MS = 20_000;

let worker: Worker | null = null;
let idle: NodeJS.Timeout | null = null;
let nextId = 1;
const waiting = new Map<number, { done: (strength: Strength) => void; failed: (error: Error) => void }>();

/**
 * The core's judgement of a typed password, made in a thread that comes and goes: its dictionaries take more memory
 * than the rest of the server, and are wanted a few times a day.
 */
export function passwordStrengthAside(password: string, context: string[]): Promise<Strength> {
  const id = nextId;
  nextId += 1;
  return new Promise((done, failed) => {
    waiting.set(id, { done, failed });
    thread().postMessage({ id, password, context });
  });
}

/**
 * Refuses a password for signing in that is easy to guess.
 * @param known words that somebody would try first: names, the office
 * @param least the score that the office asks for
 * @throws Problem password.weak at the field
 */
export async function requireStrong(field: string, password: string, known: string[], least: number): Promise<void> {
  if ((await passwordStrengthAside(password, known)).score >= least) return;
  throw invalidField(
    field,
    'password.weak',
    'That password is easy to guess. Three or four unrelated words are better.',
  );
}

function thread(): Worker {
  if (idle) clearTimeout(idle);
  idle = setTimeout(end, IDLE_MS);
  idle.unref();
  if (worker) return worker;
  const started = new Worker(THREAD, { eval: true, workerData: module });
  started.unref();
  started.on('message', ({ id, strength }: { id: number; strength: Strength }) => {
    waiting.get(id)?.done(strength);
    waiting.delete(id);
  });
  started.on('error', (error) => {
    worker = null;
    for (const { failed } of waiting.values()) failed(error);
    waiting.clear();
  });
  worker = started;
  return started;
}

function end(): void {
  if (waiting.size > 0) return;
  if (worker) aside(worker.terminate(), 'the thread that judges passwords did not end');
  worker = null;
}
