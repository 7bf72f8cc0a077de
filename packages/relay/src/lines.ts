import type { Socket } from 'node:net';

/** Longest line that is read of anybody. */
const LINE_MOST = 8192;

/**
 * Gives each line that comes as the object it holds; a peer that says anything else, or says too much, is hung up on.
 */
export function eachMessage(socket: Socket, heard: (message: Record<string, unknown>) => void): void {
  let held: Buffer = Buffer.alloc(0);
  socket.on('data', (piece: Buffer) => {
    held = held.length === 0 ? piece : Buffer.concat([held, piece]);
    for (let end = held.indexOf(10); end >= 0 && !socket.destroyed; end = held.indexOf(10)) {
      const message = parsed(held.toString('utf8', 0, end));
      held = held.subarray(end + 1);
      if (!message) return void socket.destroy(new Error('the other end says something that is not understood'));
      heard(message);
    }
    if (held.length > LINE_MOST) socket.destroy(new Error('the other end says something that is not understood'));
  });
}

export const say = (socket: Socket, message: object): boolean => socket.write(`${JSON.stringify(message)}\n`);

function parsed(line: string): Record<string, unknown> | null {
  try {
    const message = JSON.parse(line) as unknown;
    return message !== null && typeof message === 'object' ? (message as Record<string, unknown>) : null;
  } catch {
    return null;
  }
}
