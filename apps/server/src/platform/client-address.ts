import { addressBytes } from '@quay/core';
import type { IncomingMessage } from 'node:http';
import proxyaddr from 'proxy-addr';

const told = new WeakMap<IncomingMessage, string>();

/**
 * Notes where each request comes from. Behind proxies that were named, their word counts (X-Forwarded-For), as far
 * back as each hop is one of them; nobody else's does.
 */
export function noteClients(trustedProxies: readonly string[]): (req: IncomingMessage) => void {
  if (trustedProxies.length === 0) return () => undefined;
  const trust = proxyaddr.compile([...trustedProxies]);
  return (req) => void told.set(req, proxyaddr(req as never, trust));
}

const prefixes = new WeakMap<IncomingMessage, string>();

/** Notes the path prefix of the address that a request came in by, which has been taken off its path. */
export function notePrefix(req: IncomingMessage, prefix: string): void {
  if (prefix !== '') prefixes.set(req, prefix);
}

/** What stands before this server's own paths in the eyes of whoever asked; '' in most cases. */
export function prefixOf(req: IncomingMessage): string {
  return prefixes.get(req) ?? '';
}

/**
 * What limits count by: an IPv4 address as it is, of an IPv6 address the first 64 bits, because whoever has one of
 * these commonly has all that share them (RFC 6177 §2).
 */
export function sourceOf(address: string): string {
  const bytes = addressBytes(address);
  if (bytes?.length !== 16) return address;
  const prefix = Buffer.from(bytes.slice(0, 8)).toString('hex');
  return `${prefix}/64`;
}

/** Where a request comes from; IPv4 addresses as such. */
export function clientAddress(req: IncomingMessage): string {
  return (told.get(req) ?? req.socket.remoteAddress ?? '').replace(/^::ffff:/, '');
}
