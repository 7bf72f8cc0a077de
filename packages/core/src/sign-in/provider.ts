/** What an identity provider says of whoever signed in there (OpenID Connect Core 1.0 §5.1). */
export interface ProviderClaims {
  /** Theirs for ever, at that provider. */
  subject: string;
  email: string | null;
  emailVerified: boolean;
  name: string | null;
  groups: readonly string[];
}

/** What the office has said of it. */
export interface ProviderRules {
  /** Whoever has no account yet gets one, at an address of these domains. */
  makesAccounts: boolean;
  domains: readonly string[];
}

/** An account at the mail address that the provider names. */
export interface ProviderCandidate {
  id: string;
  role: 'admin' | 'staff' | 'guest';
  /** Not disabled. */
  usable: boolean;
  /** Somebody of the provider signs in by it already, or the directory does. */
  taken: boolean;
}

export type ProviderRefusal =
  | 'provider.mail-unverified'
  | 'provider.admin'
  | 'provider.guest'
  | 'provider.taken'
  | 'provider.disabled'
  | 'provider.nobody';

export type ByProvider =
  | { kind: 'known'; personId: string }
  | { kind: 'link'; personId: string }
  | { kind: 'new'; email: string; name: string }
  | { kind: 'refused'; code: ProviderRefusal };

/**
 * Who somebody is here whom a provider has let in. By what never changes of them; the first time by a mail address that
 * the provider has verified, which is enough for staff and for nobody else: an admin's account is never won by one.
 * @param bySubject whose identity it is already
 * @param byMail the accounts at that address: whoever had one that was disabled gets no other by coming again
 */
export function whoByProvider(
  claims: ProviderClaims,
  rules: ProviderRules,
  { bySubject, byMail }: { bySubject: string | null; byMail: readonly ProviderCandidate[] },
): ByProvider {
  const refused = (code: ProviderRefusal): ByProvider => ({ kind: 'refused', code });
  if (bySubject !== null) return { kind: 'known', personId: bySubject };
  const { email } = claims;
  if (email === null || !claims.emailVerified) return refused('provider.mail-unverified');
  const usable = byMail.filter((p) => p.usable);
  if (usable.some((p) => p.role === 'admin')) return refused('provider.admin');
  if (usable.some((p) => p.role === 'guest')) return refused('provider.guest');
  if (usable.length > 1 || usable.some((p) => p.taken)) return refused('provider.taken');
  const [only] = usable;
  if (byMail.length > 0 && !only) return refused('provider.disabled');
  if (only) return { kind: 'link', personId: only.id };
  const domain = email.slice(email.lastIndexOf('@') + 1).toLowerCase();
  if (!rules.makesAccounts || !rules.domains.includes(domain)) return refused('provider.nobody');
  return { kind: 'new', email, name: claims.name ?? email.slice(0, email.lastIndexOf('@')) };
}

/** Why nobody is signed in, for whoever comes back from the provider. */
export const PROVIDER_WORDS: Record<ProviderRefusal | ProviderFailure, string> = {
  'provider.mail-unverified': 'It has not verified a mail address of yours, so it is not known who you are here.',
  'provider.admin': 'Admins sign in here by a password of their own.',
  'provider.guest': 'Guests sign in here by their password, or by a link.',
  'provider.taken': 'Your mail address belongs to more than one account here. Ask whoever looks after people.',
  'provider.nobody': 'Nobody here has your mail address. Ask whoever looks after people for an account.',
  'provider.away': 'It does not answer. Who has a password here can sign in by it meanwhile.',
  'provider.refused': 'It did not let you in.',
  'provider.over': 'That took too long, or was begun in another browser. Try again.',
  'provider.not-believed':
    'What it said could not be believed, so you were not signed in. Whoever runs the server finds why in the log.',
  'provider.disabled': 'Your account here cannot be used.',
  'provider.outside': 'From outside the office you may not sign in like this.',
};
export type ProviderFailure =
  'provider.away' | 'provider.refused' | 'provider.over' | 'provider.not-believed' | 'provider.outside';

/** Whether an address that is not encrypted leads to this very machine. */
export const isLoopbackUrl = (url: string): boolean =>
  /^http:\/\/(localhost|127(\.\d{1,3}){3}|\[::1\])(:\d{1,5})?(\/|$)/.test(url);

/** Whether a provider may be asked there: encrypted, or on this very machine. */
export const isProviderUrl = (url: string): boolean => /^https:\/\/[^/?#]+/.test(url) || isLoopbackUrl(url);
