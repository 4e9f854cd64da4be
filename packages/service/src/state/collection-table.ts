import type Database from 'better-sqlite3';

/** What the store knows of a collection. Times are milliseconds since 1970. */
export interface CollectionInfo {
  number: number;
  name: string;
  documents: number;
  sizeBytes: number;
  created: number;
  updated: number;
  /** The seq of the last change. */
  version: number;
}

export const SELECT_COLLECTIONS = `
  SELECT number, name, documents, size_bytes AS sizeBytes, created, updated, version FROM collections`;
const UPSERT = `
  INSERT INTO collections (number, name, documents, size_bytes, created, updated, version)
  VALUES (:number, :name, :documents, :sizeBytes, :created, :updated, :version)
  ON CONFLICT (number) DO UPDATE
  SET documents = :documents, size_bytes = :sizeBytes, updated = :updated, version = :version`;

/** The collections of a store as the state machine sees them: in memory, written at the end of each batch. */
export class CollectionTable {
  readonly #selectAll: Database.Statement<[], CollectionInfo>;
  readonly #upsert: Database.Statement<[CollectionInfo]>;
  #byName = new Map<string, CollectionInfo>();
  #last = 0;
  readonly #changed = new Set<CollectionInfo>();

  constructor(database: Database.Database) {
    this.#selectAll = database.prepare(SELECT_COLLECTIONS);
    this.#upsert = database.prepare(UPSERT);
    this.reload();
  }

  get(name: string): CollectionInfo | undefined {
    return this.#byName.get(name);
  }

  /** All collections, as they are now. */
  list(): Iterable<Readonly<CollectionInfo>> {
    return this.#byName.values();
  }

  /** The number of the collection called `name`, which is created if it does not exist. */
  numberOf(name: string, timeMs: number): number {
    return (this.#byName.get(name) ?? this.#add(name, timeMs)).number;
  }

  /** Counts one change, which adds so many documents and bytes. Creates the collection with its first document. */
  count(name: string, seq: number, timeMs: number, documents: number, sizeBytes: number): number {
    const info = this.#byName.get(name) ?? this.#add(name, timeMs);
    info.documents += documents;
    info.sizeBytes += sizeBytes;
    info.version = seq;
    info.updated = timeMs;
    this.#changed.add(info);
    return info.number;
  }

  /** Writes the collections that changed in this batch, and returns them as they are now. */
  write(): CollectionInfo[] {
    const changed = [...this.#changed].map((info) => ({ ...info }));
    for (const info of changed) this.#upsert.run(info);
    this.#changed.clear();
    return changed;
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#changed.clear();
    this.#byName = new Map(this.#selectAll.all().map((info) => [info.name, info]));
    this.#last = Math.max(0, ...[...this.#byName.values()].map(({ number }) => number));
  }

  #add(name: string, timeMs: number): CollectionInfo {
    const number = ++this.#last;
    const info = { number, name, documents: 0, sizeBytes: 0, created: timeMs, updated: timeMs, version: 0 };
    this.#byName.set(name, info);
    this.#changed.add(info);
    return info;
  }
}
