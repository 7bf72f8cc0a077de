import { pino } from 'pino';

/**
 * Structured log, one JSON object a line. Nothing secret may reach it: paths are logged without link tokens and without
 * query strings, bodies and headers never; what is left is redacted by name as a second line of defence.
 */
export const log = pino({
  level: process.env['QUAY_LOG'] ?? 'info',
  base: null,
  timestamp: pino.stdTimeFunctions.isoTime,
  redact: {
    paths: [
      'password',
      '*.password',
      'token',
      '*.token',
      'cookie',
      '*.cookie',
      'authorization',
      '*.authorization',
      'err.parameters',
      'err.driverError.parameters',
      'err.query',
    ],
    censor: '(hidden)',
  },
});
