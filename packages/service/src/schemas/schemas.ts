import { formatTime, type Author, type JsonObject } from '@uproar/core';
import type { CollectionSchema, SchemaMode } from '@uproar/protocol';
import { formatIdentity } from '../identity/identity.js';
import type { Store } from '../store/index.js';

interface Row {
  collection: string;
  version: number;
  time: number;
  author: string;
  note: string | null;
  mode: SchemaMode;
  schema: string;
}

const COLUMNS = 'collection, version, time, author, note, mode, schema';
const CURRENT = `
  SELECT ${COLUMNS} FROM schemas s
  WHERE version = (SELECT MAX(version) FROM schemas WHERE collection = s.collection) ORDER BY collection`;

const ONE = `
  SELECT ${COLUMNS} FROM schemas WHERE collection = ? AND (? IS NULL OR version = ?) ORDER BY version DESC LIMIT 1`;

/** The schemas of a store's collections, of which the last version of each holds. */
export class Schemas {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  /** How many writes did not fit a schema and were applied all the same, since the start. */
  readonly warned = new Map<string, number>();

  constructor(store: Pick<Store, 'reads' | 'log'>) {
    this.#store = store;
    store.log.onApplied((group) => {
      for (const { commit, warnings } of group) {
        for (const { write } of warnings) {
          const { collection } = commit.writes[write]!;
          this.warned.set(collection, (this.warned.get(collection) ?? 0) + 1);
        }
      }
    });
  }

  /** The schema of each collection that has one. */
  list(): CollectionSchema[] {
    return this.#store.reads.statement<[], Row>(CURRENT).all().map(describe);
  }

  /** The newest version, or the given one. Undefined if it does not exist. */
  get(collection: string, version?: number): CollectionSchema | undefined {
    const row = this.#store.reads
      .statement<[string, number | null, number | null], Row>(ONE)
      .get(collection, version ?? null, version ?? null);
    return row && describe(row);
  }

  /**
   * Puts another version in force.
   *
   * @throws {ProblemError} `bad-schema`
   */
  async set(
    collection: string,
    mode: SchemaMode,
    schema: JsonObject,
    author: Author,
    note?: string,
  ): Promise<CollectionSchema> {
    const { version } = await this.#store.log.propose({
      kind: 'schema',
      timeMs: Date.now(),
      collection,
      mode,
      schema,
      author,
      ...(note === undefined ? {} : { note }),
    });
    return this.get(collection, version)!;
  }

  /** Removes the schema of a collection with all its versions. Resolves with whether there was one. */
  async remove(collection: string): Promise<boolean> {
    const record = { kind: 'schema-removed', timeMs: Date.now(), collection } as const;
    return (await this.#store.log.propose(record)).removed;
  }
}

function describe({ collection, version, time, author, note, mode, schema }: Row): CollectionSchema {
  return {
    collection,
    version,
    mode,
    schema: JSON.parse(schema) as JsonObject,
    time: formatTime(time),
    identity: formatIdentity(JSON.parse(author) as Author),
    ...(note === null ? {} : { note }),
  };
}
