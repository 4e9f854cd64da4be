import type Database from 'better-sqlite3';
import type { EntryHeader } from './log-entry.js';

/** Parts of a batch that was never ended are removed when the log is this many entries further. */
const PARTS_KEPT = 10_000;

/** The most producers that are kept. A node is a new one after each start. */
const MAX_PRODUCERS = 1000;

const NEXT = 'SELECT next FROM producers WHERE name = ?';
const SET = `
  INSERT INTO producers (name, next, place) VALUES (?, ?, ?)
  ON CONFLICT (name) DO UPDATE SET next = excluded.next, place = excluded.place`;
const COUNT = 'SELECT COUNT(*) FROM producers';
const OLDEST = 'SELECT name FROM producers ORDER BY place, name LIMIT 1';
const REMOVE = 'DELETE FROM producers WHERE name = ?';
const ADD_PART = 'INSERT INTO entry_parts (producer, part, bytes) VALUES (?, ?, ?)';
const PARTS = 'SELECT COUNT(*) FROM entry_parts WHERE producer = ?';
const READ_PARTS = 'SELECT bytes FROM entry_parts WHERE producer = ? ORDER BY part';
const REMOVE_OLD_PARTS = 'DELETE FROM entry_parts WHERE producer IN (SELECT name FROM producers WHERE place < ?)';
const REMOVE_PARTS = 'DELETE FROM entry_parts WHERE producer = ?';

/**
 * The number of the next batch of each producer. An entry that was appended twice, or was overtaken by a later one, is
 * recognised by it and skipped. Parts of a batch are kept here until the last one has come.
 */
export class ProducerTable {
  readonly #database: Database.Database;
  readonly #next: Database.Statement<[string], number>;
  readonly #set: Database.Statement<[string, number, number]>;
  readonly #addPart: Database.Statement<[string, number, Buffer]>;
  readonly #parts: Database.Statement<[string], number>;
  readonly #readParts: Database.Statement<[string], Buffer>;
  readonly #removeParts: Database.Statement<[string]>;

  constructor(database: Database.Database) {
    this.#database = database;
    this.#next = database.prepare<[string], number>(NEXT).pluck();
    this.#set = database.prepare(SET);
    this.#addPart = database.prepare(ADD_PART);
    this.#parts = database.prepare<[string], number>(PARTS).pluck();
    this.#readParts = database.prepare<[string], Buffer>(READ_PARTS).pluck();
    this.#removeParts = database.prepare(REMOVE_PARTS);
  }

  /**
   * Takes an entry.
   *
   * @param place its place in the log
   * @returns all parts of its batch, once the last one has come; undefined for an earlier part, and for an entry that
   *   does not count
   */
  take({ producer, number, part, parts }: EntryHeader, body: Buffer, place: number): Buffer[] | undefined {
    const known = this.#next.get(producer);
    if (number !== (known ?? 1)) return undefined;
    if (known === undefined) this.#makeRoom(place);
    const before = parts === 1 ? 0 : this.#parts.get(producer)!;
    if (part !== before + 1) return undefined;
    if (part < parts) {
      this.#set.run(producer, number, place);
      this.#addPart.run(producer, part, body);
      return undefined;
    }
    this.#set.run(producer, number + 1, place);
    if (parts === 1) return [body];
    const earlier = this.#readParts.all(producer);
    this.#removeParts.run(producer);
    return [...earlier, body];
  }

  /** Forgets parts that were never completed, and, if there are too many producers, the one that was silent longest. */
  #makeRoom(place: number): void {
    this.#database.prepare(REMOVE_OLD_PARTS).run(place - PARTS_KEPT);
    if (this.#database.prepare<[], number>(COUNT).pluck().get()! < MAX_PRODUCERS) return;
    const oldest = this.#database.prepare<[], string>(OLDEST).pluck().get()!;
    this.#database.prepare(REMOVE).run(oldest);
    this.#removeParts.run(oldest);
  }
}
