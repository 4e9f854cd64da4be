import Database from 'better-sqlite3';
import { ConnectionReads, type Reads, type ReadStatement } from './reads.js';

/** Bytes of the file that a reading connection maps into memory, so that pages are not copied. */
const MAPPED_BYTES = 1024 * 1024 * 1024;

/** A connection that reads the store at one state. */
class View {
  readonly reads: ConnectionReads;
  readonly #database: Database.Database;
  readonly #begin: Database.Statement;
  readonly #end: Database.Statement;
  readonly #touch: Database.Statement;

  constructor(file: string) {
    this.#database = new Database(file, { readonly: true });
    this.#database.pragma('cache_size = -16384');
    this.#database.pragma(`mmap_size = ${MAPPED_BYTES}`);
    this.reads = new ConnectionReads(this.#database);
    this.#begin = this.#database.prepare('BEGIN');
    this.#end = this.#database.prepare('COMMIT');
    this.#touch = this.#database.prepare('SELECT place FROM log');
  }

  /** Fixes the state that it reads: the present one. */
  begin(): void {
    this.#begin.run();
    this.#touch.get();
  }

  end(): void {
    if (this.#database.inTransaction) this.#end.run();
  }

  close(): void {
    this.#database.close();
  }
}

/**
 * Reads the store at its last state that is on disk, although the next one may have been written already. Two connections
 * take turns: one reads; the other is fixed to the state after a batch, and takes over when that batch is on disk.
 */
export class PublishedReads implements Reads {
  readonly #views: [View, View];
  #present = 0;

  constructor(file: string) {
    this.#views = [new View(file), new View(file)];
    this.#views[0].begin();
  }

  statement<Parameters extends unknown[], Row>(sql: string): ReadStatement<Parameters, Row> {
    return this.#views[this.#present]!.reads.statement(sql);
  }

  rows<Parameters extends unknown[], Row extends unknown[]>(sql: string): ReadStatement<Parameters, Row> {
    return this.#views[this.#present]!.reads.rows(sql);
  }

  values<Parameters extends unknown[], Value>(sql: string): ReadStatement<Parameters, Value> {
    return this.#views[this.#present]!.reads.values(sql);
  }

  /** Fixes the state that a batch has just written, to be read once it is on disk. */
  prepareNext(): void {
    const next = this.#views[1 - this.#present]!;
    next.end();
    next.begin();
  }

  /** From now on reads the state that {@link prepareNext} has fixed. */
  publish(): void {
    this.#views[this.#present]!.end();
    this.#present = 1 - this.#present;
  }

  /**
   * Lets go of all states, so that the write-ahead log can begin anew. Until {@link resume}, each statement reads the
   * newest state, so writers must wait.
   */
  release(): void {
    for (const view of this.#views) view.end();
  }

  /** Fixes the present state again, after {@link release}. */
  resume(): void {
    this.#views[this.#present]!.begin();
  }

  close(): void {
    for (const view of this.#views) {
      view.end();
      view.close();
    }
  }
}
