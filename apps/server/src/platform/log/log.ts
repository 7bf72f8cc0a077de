import { pino } from 'pino';

/** Deeper causes are told by their words alone, also where an error is its own cause. */
const MOST_CAUSES = 5;

/**
 * What the log keeps of an error: never what a library hangs on it (a whole connection with its key, values of a
 * query).
 */
export function errorInLog(error: unknown, depth = 0): object {
  if (!(error instanceof Error) || depth > MOST_CAUSES) return { message: String(error) };
  const { code, constraint, cause } = error as Error & { code?: unknown; constraint?: unknown };
  return {
    type: error.name,
    message: error.message,
    stack: error.stack,
    ...(code !== undefined && { code }),
    ...(constraint !== undefined && { constraint }),
    ...(cause !== undefined && { cause: errorInLog(cause, depth + 1) }),
    ...(error instanceof AggregateError && { errors: error.errors.map((one) => errorInLog(one, depth + 1)) }),
  };
}

/**
 * Structured log, one JSON object a line. Nothing secret may reach it: paths are logged without link tokens and without
 * query strings, bodies and headers never; what is left is redacted by name as a second line of defence.
 */
export const log = pino({
  level: process.env['QUAY_LOG'] ?? 'info',
  base: null,
  timestamp: pino.stdTimeFunctions.isoTime,
  serializers: { err: (error: unknown) => errorInLog(error) },
  redact: {
    paths: ['password', '*.password', 'token', '*.token', 'cookie', '*.cookie', 'authorization', '*.authorization'],
    censor: '(hidden)',
  },
});
