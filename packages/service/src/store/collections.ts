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

const SELECT_ALL = `
  SELECT number, name, documents, size_bytes AS sizeBytes, created, updated, version FROM collections`;
const INSERT = `
  INSERT INTO collections (number, name, documents, size_bytes, created, updated, version)
  VALUES (:number, :name, :documents, :sizeBytes, :created, :updated, :version)
  ON CONFLICT (number) DO UPDATE
  SET documents = :documents, size_bytes = :sizeBytes, updated = :updated, version = :version`;

/** The collections of a store, held in memory and written with the commits that change them. */
export class Collections {
  readonly #selectAll: Database.Statement<[], CollectionInfo>;
  readonly #upsert: Database.Statement<[CollectionInfo]>;
  #byName = new Map<string, CollectionInfo>();
  #byNumber = new Map<number, CollectionInfo>();
  readonly #altered = new Set<CollectionInfo>();

  constructor(database: Database.Database) {
    this.#selectAll = database.prepare(SELECT_ALL);
    this.#upsert = database.prepare(INSERT);
    this.reload();
  }

  /** The collection called `name`, or undefined when nothing was ever written to it. */
  get(name: string): CollectionInfo | undefined {
    return this.#byName.get(name);
  }

  /** The name of the collection with this number. */
  nameOf(number: number): string {
    return this.#byNumber.get(number)!.name;
  }

  /** All collections in the order of their names. */
  list(): CollectionInfo[] {
    return [...this.#byName.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  /** The number of the collection called `name`, which is made if it is not there. */
  numberOf(name: string, timeMs: number): number {
    const info = this.#byName.get(name) ?? this.#add(name, timeMs);
    this.#upsert.run(info);
    return info.number;
  }

  /** Counts one change in; makes the collection when it is its first. Belongs inside a transaction. */
  count(name: string, change: { documents: number; sizeBytes: number; seq: number; timeMs: number }): CollectionInfo {
    const info = this.#byName.get(name) ?? this.#add(name, change.timeMs);
    info.documents += change.documents;
    info.sizeBytes += change.sizeBytes;
    info.version = change.seq;
    info.updated = change.timeMs;
    this.#altered.add(info);
    return info;
  }

  /** Writes the counts changed by {@link count}. Must run inside the same transaction. */
  write(): void {
    for (const info of this.#altered) this.#upsert.run(info);
    this.#altered.clear();
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#altered.clear();
    const rows = this.#selectAll.all();
    this.#byName = new Map(rows.map((info) => [info.name, info]));
    this.#byNumber = new Map(rows.map((info) => [info.number, info]));
  }

  #add(name: string, timeMs: number): CollectionInfo {
    const info = {
      number: Math.max(0, ...this.#byNumber.keys()) + 1,
      name,
      documents: 0,
      sizeBytes: 0,
      created: timeMs,
      updated: timeMs,
      version: 0,
    };
    this.#byName.set(name, info);
    this.#byNumber.set(info.number, info);
    return info;
  }
}
