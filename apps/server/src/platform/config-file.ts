import Joi from 'joi';
import { judgeYaml, readYaml, type FileFault } from './yaml-file.js';

/** What the configuration file of an installed server may say. Whatever is a secret lies in a file of its own. */
export interface ConfigFile {
  serve: { host: string; port: number };
  processes: number;
  database: { url: string | null; urlFile: string | null };
  files: {
    bytes: string;
    adoptFrom: string[];
    exportTo: string | null;
    secondCopy: string | null;
    keepFreeMegabytes: number;
  };
  keys: { sealing: string };
  mail: { smtp: string | null; from: string | null };
  reach: { file: string | null };
  metrics: { host: string; port: number | null; tokenFile: string | null };
  previews: { socket: string | null };
  scanner: { at: string | null };
  firstStartCode: string | null;
  log: string;
}

const path = Joi.string()
  .max(1000)
  .pattern(/^\/[^\0]*$/)
  .messages({ 'string.pattern.base': 'Write the whole path, as in /var/lib/lockfast-quay.' });
const optional = path.allow(null).default(null);
const port = Joi.number().integer().min(1).max(65_535);
/** An object whose members have defaults, and which may be left out. */
const part = (members: Joi.SchemaMap) => Joi.object(members).default();

/** A URL that names nobody's password: everybody who may read the file could. */
const database = Joi.string()
  .uri({ scheme: ['postgres', 'postgresql'] })
  .custom((url: string, helpers) => (/^[a-z]+:\/\/[^/@:]*:[^/@]/.test(url) ? helpers.error('database.password') : url))
  .messages({
    'database.password': 'A password does not stand here: put the URL in a file, and name that as urlFile.',
  });

export const configFileSchema = Joi.object<ConfigFile>({
  serve: part({ host: Joi.string().ip({ cidr: 'forbidden' }).default('127.0.0.1'), port: port.default(4180) }),
  processes: Joi.number().integer().min(1).max(64).default(1),
  database: Joi.object({ url: database.allow(null).default(null), urlFile: optional })
    .custom((value: ConfigFile['database'], helpers) =>
      (value.url === null) === (value.urlFile === null) ? helpers.error('database.one') : value,
    )
    .required()
    .messages({ 'database.one': 'The database is named by url or by urlFile, one of them.' }),
  files: Joi.object({
    bytes: path.required(),
    adoptFrom: Joi.array().items(path).default([]),
    exportTo: optional,
    secondCopy: optional,
    keepFreeMegabytes: Joi.number().integer().min(0).default(64),
  }).required(),
  keys: Joi.object({ sealing: path.required() }).required(),
  mail: part({
    smtp: Joi.string()
      .uri({ scheme: ['smtp', 'smtps'] })
      .allow(null)
      .default(null),
    from: Joi.string().email({ tlds: false }).allow(null).default(null),
  }),
  reach: part({ file: optional }),
  metrics: part({
    host: Joi.string().ip().default('127.0.0.1'),
    port: port.allow(null).default(null),
    tokenFile: optional,
  }),
  previews: part({ socket: optional }),
  scanner: part({ at: optional }),
  firstStartCode: optional,
  log: Joi.string().valid('fatal', 'error', 'warn', 'info', 'debug', 'silent').default('info'),
}).messages({ 'object.unknown': '{#label} is nothing that can be set' });

/** @returns what a configuration file says, or all that is wrong with it */
export function readConfigFile(text: string): { config: ConfigFile } | { faults: FileFault[] } {
  const { told, faults, lineOf } = readYaml(text);
  if (faults.length > 0) return { faults };
  const judged = judgeYaml(told, configFileSchema, lineOf);
  return judged.faults.length > 0 ? { faults: judged.faults } : { config: judged.value };
}

/**
 * What the file says, under the names of the environment, which comes before it.
 * @param readText gives what is in a file that holds a secret
 */
export function environmentOf(file: ConfigFile, readText: (path: string) => string): Record<string, string> {
  const { database: db, files, metrics } = file;
  const named: Record<string, string | number | null> = {
    QUAY_HOST: file.serve.host,
    QUAY_PORT: file.serve.port,
    QUAY_PROCESSES: file.processes,
    QUAY_DATABASE_URL: db.url ?? readText(db.urlFile ?? '').trim(),
    QUAY_BLOBS: files.bytes,
    QUAY_IMPORT_ROOTS: files.adoptFrom.join(':'),
    QUAY_EXPORT_ROOT: files.exportTo,
    QUAY_BLOB_COPY: files.secondCopy,
    QUAY_KEEP_FREE_BYTES: files.keepFreeMegabytes * 1024 * 1024,
    QUAY_KEY_FILE: file.keys.sealing,
    QUAY_SMTP_URL: file.mail.smtp,
    QUAY_MAIL_FROM: file.mail.from,
    QUAY_REACH_FILE: file.reach.file,
    QUAY_METRICS_HOST: metrics.host,
    QUAY_METRICS_PORT: metrics.port,
    QUAY_METRICS_TOKEN_FILE: metrics.tokenFile,
    QUAY_PREVIEWS_SOCKET: file.previews.socket,
    QUAY_SCANNER: file.scanner.at,
    QUAY_CODE_FILE: file.firstStartCode,
    QUAY_LOG: file.log,
  };
  return Object.fromEntries(
    Object.entries(named).flatMap(([name, value]) => (value === null || value === '' ? [] : [[name, String(value)]])),
  );
}
