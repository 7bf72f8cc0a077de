import { parse, serialize } from 'cookie';

/** A cookie that scripts cannot read and other sites' forms do not send (RFC 6265bis: HttpOnly, SameSite=Lax). */
export function setCookie(
  name: string,
  value: string,
  options: { path: string; maxAgeSeconds: number; secure: boolean },
): string {
  return serialize(name, value, {
    httpOnly: true,
    sameSite: 'lax',
    path: options.path,
    maxAge: options.maxAgeSeconds,
    secure: options.secure,
  });
}

/** The value of one cookie of a request; null when it is not there. */
export function cookieOf(header: string | undefined, name: string): string | null {
  return parse(header ?? '')[name] ?? null;
}
