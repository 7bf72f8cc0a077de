import type { ProblemBody } from '@quay/contract';

/** A refusal of the server, with its stable code and words that can be shown as they are. */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    detail: string,
    readonly body: Partial<ProblemBody> = {},
  ) {
    super(detail);
  }

  /** What is wrong with one field, or null. */
  field(name: string): string | null {
    return this.body.errors?.find((e) => e.field === name || e.field.startsWith(`${name}.`))?.detail ?? null;
  }
}

const AWAY = 'The server is not answering. Check the connection; what you entered is still here.';

/** Reads a refusal out of an answer that is not a success. */
export async function problemOf(response: Response): Promise<ApiProblem> {
  const body = (await response.json().catch(() => ({}))) as Partial<ProblemBody>;
  return new ApiProblem(response.status, body.code ?? 'unexpected', body.detail ?? 'The server gave no reason.', body);
}

/** JSON writes what is no number as null, and null often means "no limit": that must not happen in silence. */
function onlyNumbers(key: string, value: unknown): unknown {
  if (typeof value === 'number' && !Number.isFinite(value)) throw new TypeError(`"${key}" is no number`);
  return value;
}

/** Asks the API. @throws ApiProblem for every refusal, also when the server cannot be reached (code `network.away`) */
export async function api<T>(
  method: 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE',
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<T> {
  const response = await fetch(path, {
    method,
    headers: { ...headers, ...(body !== undefined && { 'Content-Type': 'application/json' }) },
    body: body === undefined ? undefined : JSON.stringify(body, onlyNumbers),
  }).catch(() => {
    throw new ApiProblem(0, 'network.away', AWAY);
  });
  if (!response.ok) throw await problemOf(response);
  return (response.status === 204 ? undefined : await response.json()) as T;
}
