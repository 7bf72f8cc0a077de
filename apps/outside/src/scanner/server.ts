import { createServer, type Server, type Socket } from 'node:net';

/**
 * What the test file of scanners holds (European Institute for Computer Antivirus Research, 2003; from memory, and compared
 * with ClamAV's own signature in a test), put together so that no scanner stops at this program.
 */
export const TEST_SIGNATURE = ['X5O!P%@AP[4\\PZX54(P^)7CC)7}', '$EICAR-STANDARD-ANTIVIRUS-', 'TEST-FILE!$H+H*'].join(
  '',
);
const FINDING = 'Quay.Test.Signature';
/** As clamd's StreamMaxLength. */
const MOST_BYTES = 100 * 1024 * 1024;

/**
 * A scanner that speaks clamd's protocol (clamd(8): PING, VERSION, INSTREAM; commands that begin with z end with a zero
 * byte) and finds the test file of scanners, and nothing else.
 */
export function scannerServer(): Server {
  return createServer((socket) => {
    socket.on('error', () => undefined);
    const reader = new Reader(socket);
    answer(socket, reader).catch(() => socket.destroy());
  });
}

async function answer(socket: Socket, reader: Reader): Promise<void> {
  const command = (await reader.until(0)).toString('latin1');
  if (command === 'zPING') socket.end('PONG\0');
  else if (command === 'zVERSION') socket.end('Scanner of the outside world\0');
  else if (command === 'zINSTREAM') socket.end(`${await scan(reader)}\0`);
  else socket.end('UNKNOWN COMMAND\0');
}

async function scan(reader: Reader): Promise<string> {
  let last = Buffer.alloc(0);
  let total = 0;
  let isFound = false;
  for (;;) {
    const length = (await reader.take(4)).readUInt32BE();
    if (length === 0) return isFound ? `stream: ${FINDING} FOUND` : 'stream: OK';
    total += length;
    if (total > MOST_BYTES) return 'INSTREAM size limit exceeded. ERROR';
    // What is looked for may lie across two pieces.
    const piece = Buffer.concat([last, await reader.take(length)]);
    isFound ||= piece.includes(TEST_SIGNATURE);
    last = piece.subarray(-TEST_SIGNATURE.length);
  }
}

/** Bytes as they come, taken as they are needed. */
class Reader {
  private held = Buffer.alloc(0);
  private readonly pieces: AsyncIterator<Buffer>;

  constructor(socket: Socket) {
    this.pieces = (socket as AsyncIterable<Buffer>)[Symbol.asyncIterator]();
  }

  async take(count: number): Promise<Buffer> {
    while (this.held.length < count) await this.more();
    const taken = this.held.subarray(0, count);
    this.held = this.held.subarray(count);
    return taken;
  }

  async until(byte: number): Promise<Buffer> {
    while (!this.held.includes(byte)) await this.more();
    const taken = await this.take(this.held.indexOf(byte) + 1);
    return taken.subarray(0, -1);
  }

  private async more(): Promise<void> {
    const { value, done } = await this.pieces.next();
    if (done) throw new Error('the client left');
    this.held = Buffer.concat([this.held, value]);
    if (this.held.length > MOST_BYTES) throw new Error('that is too much at once');
  }
}
