import { connect, type Socket } from 'node:net';

/** Where a scanner listens. */
export type ScannerPlace = { host: string; port: number } | { path: string };

export type ScanOutcome = { scan: 'clean' } | { scan: 'found'; finding: string } | { scan: 'too-large' };

/** A scanner that says nothing for so long is away. */
const SILENT_MS = 60_000;
const LENGTH_BYTES = 4;

/**
 * Has bytes scanned by clamd's protocol (clamd(8), INSTREAM): each piece with its length in four bytes, most significant
 * first, and a length of zero at the end.
 * @param bytes gives them from the beginning, each time it is asked
 * @throws Error when the scanner is away, breaks off or says something else
 */
export async function scanBy(place: ScannerPlace, bytes: () => AsyncIterable<Uint8Array>): Promise<ScanOutcome> {
  const first = await scanOnce(place, bytes()).catch(unlessBrokenOff);
  if (first !== null) return first;
  const outcome = await scanOnce(place, bytes()).catch(unlessBrokenOff);
  if (outcome !== null) return outcome;
  // It closes the line on a stream that is longer than it takes, and what it said of that may be lost with the line.
  await ping(place);
  return { scan: 'too-large' };
}

const scanOnce = async (place: ScannerPlace, bytes: AsyncIterable<Uint8Array>): Promise<ScanOutcome> =>
  outcomeOf(await ask(place, (socket) => send(socket, bytes)));

/** @throws Error when it does not answer */
async function ping(place: ScannerPlace): Promise<void> {
  const said = await ask(place, async (socket) => void socket.write('zPING\0'));
  if (said !== 'PONG') throw new Error(`the scanner says: ${said.slice(0, 200)}`);
}

async function ask(place: ScannerPlace, say: (socket: Socket) => Promise<void>): Promise<string> {
  const socket = connect(place);
  socket.setTimeout(SILENT_MS, () => socket.destroy(new Error('the scanner does not answer')));
  const answer = answerOf(socket);
  try {
    await Promise.race([say(socket), answer]);
    return await answer;
  } finally {
    socket.destroy();
  }
}

/** The line was there, and ended before anything was said. */
class BrokenOff extends Error {}

function unlessBrokenOff(error: NodeJS.ErrnoException): null {
  if (error instanceof BrokenOff || error.code === 'EPIPE' || error.code === 'ECONNRESET') return null;
  throw error;
}

/** What it says, up to the zero byte at its end. */
function answerOf(socket: Socket): Promise<string> {
  const answer = new Promise<string>((resolve, reject) => {
    let said = '';
    socket.setEncoding('utf8');
    socket.on('data', (piece: string) => {
      said += piece;
      if (said.includes('\0')) resolve(said.slice(0, said.indexOf('\0')));
      else if (said.length > 10_000) reject(new Error('the scanner says too much'));
    });
    socket.once('error', reject);
    socket.once('close', () => reject(new BrokenOff('the scanner has broken off')));
  });
  // It may break off before anybody waits for what it says.
  answer.catch(() => undefined);
  return answer;
}

async function send(socket: Socket, bytes: AsyncIterable<Uint8Array>): Promise<void> {
  socket.write('zINSTREAM\0');
  for await (const piece of bytes) {
    const length = Buffer.alloc(LENGTH_BYTES);
    length.writeUInt32BE(piece.length);
    socket.write(length);
    if (!socket.write(piece) && !socket.destroyed) await drained(socket);
    if (socket.destroyed) return;
  }
  socket.write(Buffer.alloc(LENGTH_BYTES));
}

const drained = (socket: Socket): Promise<void> =>
  new Promise((resolve) => {
    const done = () => {
      socket.off('drain', done);
      socket.off('close', done);
      resolve();
    };
    socket.once('drain', done);
    socket.once('close', done);
  });

function outcomeOf(answer: string): ScanOutcome {
  if (/^stream: OK$/.test(answer)) return { scan: 'clean' };
  const found = /^stream: (.+) FOUND$/.exec(answer)?.[1];
  if (found !== undefined) return { scan: 'found', finding: found.slice(0, 200) };
  if (/size limit exceeded/i.test(answer)) return { scan: 'too-large' };
  throw new Error(`the scanner says: ${answer.slice(0, 200)}`);
}
