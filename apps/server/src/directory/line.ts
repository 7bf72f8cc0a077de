import {
  attributesOf,
  entryId,
  groupOf,
  idBytes,
  personOf,
  rangeOf,
  type DirectoryEntry,
  type DirectoryPerson,
  type DirectorySchema,
  type DirectorySeen,
} from '@quay/core';
import type { DirectoryServer, DirectorySettings } from '@quay/contract';
import { AndFilter, Client, EqualityFilter, FilterParser, type Entry, type Filter } from 'ldapts';
import type { Dialler } from '../platform/dialler.js';
import { openEncrypted } from './encrypted.js';
import { answerFault, DirectoryFault } from './fault.js';

const ANSWER_MS = 30_000;
const PAGE = 500;
/** More than any office has; of more nothing is read. */
const MOST_ENTRIES = 200_000;
const MOST_BYTES = 512 * 2 ** 20;
/** Values of one attribute that are read in spans. */
const MOST_SPANS = 200;

export type DirectoryWay = DirectorySettings & { bindPassword: string };

/** A line to a directory, as whoever reads it. Whoever opens it closes it. */
export class DirectoryLine {
  private constructor(
    private readonly client: Client,
    private readonly way: Pick<DirectorySettings, 'schema' | 'base'>,
  ) {}

  /** @throws DirectoryFault */
  static async open(dialler: Dialler, server: DirectoryServer, way: DirectoryWay): Promise<DirectoryLine> {
    const socket = await openEncrypted(dialler, server, way);
    let taken = 0;
    socket.on('data', (piece: Buffer) => {
      taken += piece.length;
      if (taken > MOST_BYTES) socket.destroy(new Error('it said more than can be read'));
    });
    let given = false;
    const client = new Client({
      url: 'ldaps://directory:636',
      timeout: ANSWER_MS,
      createSecureConnection: (() => {
        if (given) throw new Error('the line broke');
        given = true;
        return socket;
      }) as never,
    });
    const line = new DirectoryLine(client, way);
    try {
      await line.bind(way.bindDn, way.bindPassword);
      return line;
    } catch (error) {
      await line.close();
      throw error;
    }
  }

  /**
   * Shows who somebody is. Without a password a directory would say yes to anybody (RFC 4513 §5.1.2), so it is not asked.
   * @throws DirectoryFault
   */
  async bind(dn: string, password: string): Promise<void> {
    if (dn === '' || password === '')
      throw new DirectoryFault('bind', 'A name and a password are needed.', 'Type both.');
    await this.client.bind(dn, password).catch((error: unknown) => {
      throw answerFault(error, 'bind', dn);
    });
  }

  async close(): Promise<void> {
    await this.client.unbind().catch(() => undefined);
  }

  /** Whether the base is there. @throws DirectoryFault */
  async requireBase(): Promise<void> {
    const { base } = this.way;
    if (base === '') return;
    await this.client.search(base, { scope: 'base', attributes: ['1.1'] }).catch((error: unknown) => {
      throw answerFault(error, 'base', base);
    });
  }

  /** The entries of a filter, page by page (RFC 2696). Referrals are not followed. @throws DirectoryFault */
  private async *pages(
    filter: string | Filter,
    {
      scope = 'sub' as const,
      base = this.way.base,
      attributes = attributesOf(this.way.schema),
      page = PAGE,
    }: Asked = {},
  ): AsyncGenerator<DirectoryEntry[]> {
    const { idAttribute } = this.way.schema;
    try {
      const answers = this.client.searchPaginated(base, {
        ...{ scope, filter, attributes, paged: { pageSize: page } },
        explicitBufferAttributes: [idAttribute],
      });
      for await (const { searchEntries } of answers) yield searchEntries.map((entry) => entryOf(entry, idAttribute));
    } catch (error) {
      throw answerFault(error, 'entries', base || 'the directory');
    }
  }

  /** The first of what a filter finds. @throws DirectoryFault */
  async first(
    filter: string | Filter,
    count: number,
    asked: Pick<Asked, 'scope' | 'base'> = {},
  ): Promise<DirectoryEntry[]> {
    const attributes = ['objectClass', ...attributesOf(this.way.schema)];
    for await (const page of this.pages(filter, { ...asked, attributes, page: count })) return page.slice(0, count);
    return [];
  }

  /** Everybody and every group. @throws DirectoryFault, also where only a part was given */
  async all(): Promise<DirectorySeen> {
    const { schema } = this.way;
    const seen: DirectorySeen = { people: [], groups: [], faults: [] };
    let count = 0;
    const read = async <T extends { id: string }>(filter: string, into: T[], of: (e: DirectoryEntry) => T | Fault) => {
      for await (const page of this.pages(filter))
        for (const entry of page) {
          count += 1;
          if (count > MOST_ENTRIES) throw tooMany();
          const found = entry.id === '' ? { dn: entry.dn, fault: lacksId(schema) } : of(await this.complete(entry));
          if ('fault' in found) seen.faults.push(found);
          else into.push(found);
        }
    };
    await read(schema.personFilter, seen.people, (e) => personOf(e, schema));
    await read(schema.groupFilter, seen.groups, (e) => groupOf(e, schema));
    return seen;
  }

  /** Somebody by what never changes of them. @returns null: they are not there any more. @throws DirectoryFault */
  async person(id: string): Promise<DirectoryPerson | null> {
    const { schema } = this.way;
    // As bytes: ids need be no text, and are none where the library reads a filter.
    const isIt = new EqualityFilter({ attribute: schema.idAttribute, value: Buffer.from(idBytes(id)) });
    const filter = new AndFilter({ filters: [FilterParser.parseString(schema.personFilter), isIt] });
    const [entry, another] = await this.first(filter, 2);
    if (!entry || another) return null;
    const found = personOf(entry, schema);
    return 'fault' in found ? null : found;
  }

  /** What was given in spans is asked for to its end. */
  private async complete(entry: DirectoryEntry): Promise<DirectoryEntry> {
    const spans = [...entry.attributes.keys()].map(rangeOf).filter((range) => range !== null);
    if (spans.length === 0) return entry;
    const attributes = new Map(entry.attributes);
    for (const { name, last } of spans) {
      const values = [...[...entry.attributes].flatMap(([key, v]) => (rangeOf(key)?.name === name ? v : []))];
      let next = last === null ? null : last + 1;
      for (let n = 0; next !== null; n += 1) {
        if (n >= MOST_SPANS) throw tooMany();
        const more = await this.span(entry.dn, name, next);
        values.push(...more.values);
        next = more.next;
      }
      attributes.set(name, values);
    }
    return { ...entry, attributes };
  }

  private async span(
    dn: string,
    name: string,
    from: number,
  ): Promise<{ values: readonly string[]; next: number | null }> {
    const asked = {
      scope: 'base' as const,
      base: dn,
      attributes: [`${name};range=${from}-*`, this.way.schema.idAttribute],
    };
    for await (const [entry] of this.pages('(objectClass=*)', asked))
      for (const [key, values] of entry?.attributes ?? []) {
        const range = rangeOf(key);
        if (range?.name === name && range.first === from && values.length > 0)
          return { values, next: range.last === null ? null : range.last + 1 };
      }
    throw new DirectoryFault('entries', `The directory gave only a part of ${name} of ${dn}.`, 'Try again in a while.');
  }
}

interface Asked {
  scope?: 'base' | 'one' | 'sub';
  base?: string;
  attributes?: string[];
  page?: number;
}
type Fault = { dn: string; fault: string };

const lacksId = ({ idAttribute }: DirectorySchema): string => `It has no ${idAttribute}, by which it would be known.`;

const tooMany = (): DirectoryFault =>
  new DirectoryFault(
    'entries',
    `There are more than ${MOST_ENTRIES} entries.`,
    'Choose a base or filters that find fewer.',
  );

/** Branches need have no id: then it is empty. */
function entryOf({ dn, ...rest }: Entry, idAttribute: string): DirectoryEntry {
  const attributes = new Map<string, string[]>();
  let id: Uint8Array | null = null;
  for (const [name, given] of Object.entries(rest)) {
    const values = (Array.isArray(given) ? given : [given]) as (string | Buffer)[];
    const key = name.toLowerCase();
    if (key === idAttribute.toLowerCase()) id = values[0] === undefined ? id : Buffer.from(values[0]);
    else if (values.length > 0) attributes.set(key, values.map(String));
  }
  return { dn, id: id && id.length > 0 ? entryId(id) : '', attributes };
}
