/** How a gateway for text messages is told what to send: fields of a form, of a JSON object, or of the address. */
export const GATEWAY_FORMATS = ['form', 'json', 'query'] as const;
export type GatewayFormat = (typeof GATEWAY_FORMATS)[number];

export const GATEWAY_FORMAT_WORDS: Record<GatewayFormat, string> = {
  form: 'POST, as a form sends its fields',
  json: 'POST, as one JSON object',
  query: 'GET, in the address',
};

/** A field or a header; its value may hold placeholders. */
export interface GatewayField {
  name: string;
  value: string;
}

/** A gateway as providers describe theirs: what is asked over HTTP for each message. */
export interface TextGateway {
  url: string;
  format: GatewayFormat;
  fields: GatewayField[];
  headers: GatewayField[];
}

/** What is filled in: the number (E.164), its digits alone, the words, and the secret that is kept apart. */
export const GATEWAY_PLACEHOLDERS = ['to', 'digits', 'text', 'secret'] as const;
type Placeholder = (typeof GATEWAY_PLACEHOLDERS)[number];

export interface TextMessage {
  /** E.164. */
  to: string;
  text: string;
}

/** Fields, and headers, of one gateway at the most; letters of each. */
export const MOST_GATEWAY_FIELDS = 20;
export const GATEWAY_FIELD_LENGTH = 500;
const HEADER_NAME = /^[!#$%&'*+.^_`|~0-9A-Za-z-]+$/;
/** Set by whoever sends the request (RFC 9110, RFC 9112). */
const OWN_HEADERS = ['host', 'content-length', 'content-type', 'transfer-encoding', 'connection'];

/** Why messages could not be sent like that; null: they can. */
export function gatewayFault({ url, fields, headers }: TextGateway): { field: string; words: string } | null {
  if (!isGatewayUrl(url)) return { field: 'url', words: 'A gateway is asked over https: codes would travel readable.' };
  const unknown = [...fields, ...headers].flatMap(({ value }) => placeholdersIn(value)).find((each) => !isKnown(each));
  if (unknown !== undefined)
    return { field: 'fields', words: `{${unknown}} is none of {${GATEWAY_PLACEHOLDERS.join('}, {')}}.` };
  const used = fields.flatMap(({ value }) => placeholdersIn(value));
  if (!used.includes('to') && !used.includes('digits'))
    return { field: 'fields', words: 'No field says whom the message is for: one holds {to} or {digits}.' };
  if (!used.includes('text')) return { field: 'fields', words: 'No field holds the message: one holds {text}.' };
  const header = headers.find(({ name }) => !HEADER_NAME.test(name) || OWN_HEADERS.includes(name.toLowerCase()));
  return header ? { field: 'headers', words: `${header.name} is no header that can be said.` } : null;
}

/** Encrypted, or on this very machine. */
const isGatewayUrl = (url: string): boolean =>
  /^https:\/\/[^/?#\s@]+(\/[^\s#]*)?$/.test(url) ||
  /^http:\/\/(localhost|127\.0\.0\.1|\[::1\])(:\d+)?(\/[^\s#]*)?$/.test(url);

const placeholdersIn = (value: string): string[] => [...value.matchAll(/\{([a-z]+)\}/g)].map(([, name]) => name ?? '');
const isKnown = (name: string): name is Placeholder => (GATEWAY_PLACEHOLDERS as readonly string[]).includes(name);

/** What is asked of a gateway for one message. */
export interface GatewayRequest {
  method: 'GET' | 'POST';
  url: string;
  headers: Record<string, string>;
  body: string | null;
}

export function gatewayRequest(gateway: TextGateway, { to, text }: TextMessage, secret: string): GatewayRequest {
  const values: Record<Placeholder, string> = { to, digits: to.replace(/\D/g, ''), text, secret };
  const filled = (value: string) =>
    value.replace(/\{([a-z]+)\}/g, (all, name: string) => (isKnown(name) ? values[name] : all));
  const fields = gateway.fields.map(({ name, value }) => ({ name, value: filled(value) }));
  // A header ends with its line (RFC 9110 §5.5).
  const headers = Object.fromEntries(
    gateway.headers.map(({ name, value }) => [name, filled(value).replace(/[\r\n\0]/g, ' ')]),
  );
  if (gateway.format === 'json') {
    const body = JSON.stringify(Object.fromEntries(fields.map(({ name, value }) => [name, value])));
    return { method: 'POST', url: gateway.url, headers: { ...headers, 'Content-Type': 'application/json' }, body };
  }
  const pairs = fields.map(({ name, value }) => `${formEncoded(name)}=${formEncoded(value)}`).join('&');
  if (gateway.format === 'query') {
    const url = `${gateway.url}${gateway.url.includes('?') ? '&' : '?'}${pairs}`;
    return { method: 'GET', url, headers, body: null };
  }
  const type = { 'Content-Type': 'application/x-www-form-urlencoded' };
  return { method: 'POST', url: gateway.url, headers: { ...headers, ...type }, body: pairs };
}

/** As forms are sent (WHATWG URL, application/x-www-form-urlencoded). */
const formEncoded = (text: string): string =>
  encodeURIComponent(text)
    .replace(/[!'()~]/g, (letter) => `%${letter.charCodeAt(0).toString(16).toUpperCase()}`)
    .replace(/%20/g, '+');
