import { isProviderUrl, type ProviderClaims } from '@quay/core';
import * as oidc from 'openid-client';
import type { ProviderWay } from './provider.queries.js';

const TIMEOUT_SECONDS = 10;
/** What a provider says of itself is asked again after so long. */
const KNOWN_MS = 10 * 60_000;
const MOST_GROUPS = 1000;

export type Discovered = oidc.Configuration;

/** No answer, as against one that cannot be believed. */
export class ProviderAway extends Error {}
/** It said no. */
export class ProviderRefused extends Error {}

/** What providers have said of themselves, for a while. */
export class Known {
  private held: { key: string; config: Discovered; at: number } | null = null;

  /** @throws ProviderAway, Error */
  async of(way: ProviderWay, now: number): Promise<Discovered> {
    const key = JSON.stringify([way.issuer, way.clientId, way.clientSecret]);
    if (this.held?.key === key && now - this.held.at < KNOWN_MS) return this.held.config;
    const config = await discovered(way);
    this.held = { key, config, at: now };
    return config;
  }
}

/** Asks a provider what it is (OpenID Connect Discovery 1.0 §4). @throws ProviderAway, Error */
export async function discovered(way: ProviderWay): Promise<Discovered> {
  const plain = way.issuer.startsWith('http:') && isProviderUrl(way.issuer);
  try {
    return await oidc.discovery(new URL(way.issuer), way.clientId, way.clientSecret, undefined, {
      timeout: TIMEOUT_SECONDS,
      // Tokens are believed by their signature, too, and not only because of where they came from.
      execute: [oidc.enableNonRepudiationChecks, ...(plain ? [oidc.allowInsecureRequests] : [])],
    });
  } catch (error) {
    throw told(error);
  }
}

/** Where somebody is sent, and what only this office and the provider then know. */
export async function wayThere(config: Discovered, { state, redirect }: { state: string; redirect: string }) {
  const verifier = oidc.randomPKCECodeVerifier();
  const nonce = oidc.randomNonce();
  const url = oidc.buildAuthorizationUrl(config, {
    redirect_uri: redirect,
    scope: 'openid email profile',
    // RFC 7636 §4.2; also where a client secret is kept (RFC 9700 §2.1.1).
    code_challenge: await oidc.calculatePKCECodeChallenge(verifier),
    code_challenge_method: 'S256',
    ...{ state, nonce },
  });
  return { url, verifier, nonce };
}

/**
 * Who came back, by what the provider signs: its issuer, for this office, for this very sign-in, not over (OpenID Connect
 * Core §3.1.3.7). @throws ProviderAway, ProviderRefused, Error: not to be believed
 */
export async function whoCame(
  config: Discovered,
  came: URL,
  { state, nonce, verifier, groupsClaim }: { state: string; nonce: string; verifier: string; groupsClaim: string },
): Promise<ProviderClaims> {
  try {
    const tokens = await oidc.authorizationCodeGrant(config, came, {
      ...{ expectedState: state, expectedNonce: nonce, pkceCodeVerifier: verifier },
      idTokenExpected: true,
    });
    const claims = tokens.claims();
    if (!claims) throw new Error('it gave no id token');
    const lacking = claims['email'] === undefined || (groupsClaim !== '' && claims[groupsClaim] === undefined);
    const more =
      lacking && config.serverMetadata().userinfo_endpoint
        ? await oidc.fetchUserInfo(config, tokens.access_token, claims.sub)
        : {};
    return claimsOf({ ...more, ...claims }, groupsClaim);
  } catch (error) {
    throw told(error);
  }
}

/** Where somebody signs out there as well; null: it has no such place (RP-Initiated Logout 1.0). */
export function wayOut(config: Discovered, { clientId, origin }: ProviderWay): string | null {
  if (!config.serverMetadata().end_session_endpoint) return null;
  const back = { client_id: clientId, post_logout_redirect_uri: `${origin.replace(/\/$/, '')}/sign-in` };
  return oidc.buildEndSessionUrl(config, back).href;
}

function claimsOf(claims: Record<string, unknown>, groupsClaim: string): ProviderClaims {
  const text = (name: string) => (typeof claims[name] === 'string' ? claims[name] : null);
  const named = groupsClaim === '' ? [] : claims[groupsClaim];
  const groups = (Array.isArray(named) ? named : [named]).filter((g): g is string => typeof g === 'string');
  return {
    subject: String(claims['sub']),
    email: text('email'),
    emailVerified: claims['email_verified'] === true,
    name: text('name')?.replace(/\s+/g, ' ').trim().slice(0, 80) || null,
    groups: groups.slice(0, MOST_GROUPS),
  };
}

function told(error: unknown): Error {
  if (error instanceof oidc.AuthorizationResponseError) return new ProviderRefused(error.error);
  const { code, name, message, cause } = error as Error & { code?: string };
  const isAway =
    name === 'TimeoutError' ||
    code === 'OAUTH_TIMEOUT' ||
    (error instanceof TypeError && /fetch failed/.test(message)) ||
    (cause instanceof Response && cause.status >= 500);
  return isAway ? new ProviderAway(message) : (error as Error);
}
