import type Database from 'better-sqlite3';
import type { Author } from '@uproar/core';
import type { StoredDocument } from './stored-document.js';

type Row = Omit<StoredDocument, 'number'>;

const INSERT_COMMIT = 'INSERT INTO commits (seq, id, time, author, first_change) VALUES (?, ?, ?, ?, ?)';
const INSERT_CHANGE = `
  INSERT INTO changes (number, seq, collection, document, version_before, created_before, updated_before,
                       expires_before, before, created_after, expires_after, after)
  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`;
const NEXT_CHANGE = `
  SELECT MAX(COALESCE((SELECT MAX(number) + 1 FROM changes), 1),
             COALESCE((SELECT first_change FROM commits ORDER BY seq DESC LIMIT 1), 1))`;
const LAST_SEQ = 'SELECT COALESCE(MAX(seq), 0) FROM commits';
const FIRST_KEPT = 'SELECT first_change FROM commits ORDER BY seq LIMIT 1';
const FIRST_STORED = 'SELECT MIN(number) FROM changes';
const SIZE_BEFORE = `
  SELECT COALESCE(SUM(OCTET_LENGTH(COALESCE(before, '')) + OCTET_LENGTH(COALESCE(after, ''))), 0)
  FROM changes WHERE number < ?`;
const KEPT_OF = `
  FROM changes INDEXED BY changes_by_document WHERE collection = ? AND document = ? AND erased = 0 ORDER BY seq, number LIMIT ?`;
const TO_EMPTY = `SELECT number, seq, before, after ${KEPT_OF}`;
const EMPTY = `
  UPDATE changes SET document = ?, version_before = NULL, created_before = NULL, updated_before = NULL,
    expires_before = NULL, before = NULL, created_after = NULL, expires_after = NULL, after = NULL, erased = 1
  WHERE number = ?`;
const ERASE = 'INSERT INTO changes (number, seq, collection, document, erased) VALUES (?, ?, ?, ?, 2)';
const LATEST_OF = `
  SELECT erased FROM changes INDEXED BY changes_by_document WHERE collection = ? AND document = ?
  ORDER BY seq DESC, number DESC LIMIT 1`;
const SIZE = "SELECT CAST(value AS INTEGER) FROM store WHERE name = 'journal-bytes'";
const HAS_EMPTIED = `
  SELECT 1 FROM changes INDEXED BY changes_by_document WHERE collection = ? AND document = ? AND erased = 1 LIMIT 1`;
const HAS_ERASED = 'SELECT 1 FROM changes WHERE collection = ? AND seq = ? AND erased > 0';
const FIRST_SEQ = 'SELECT MIN(seq) FROM commits';
const SET_SIZE = "UPDATE store SET value = ? WHERE name = 'journal-bytes'";
const TRUNCATE = 'DELETE FROM commits WHERE seq <= ? AND seq < (SELECT MAX(seq) FROM commits)';
const SWEEP = 'DELETE FROM changes WHERE number < ?';

/** The journal as the state machine writes it. */
export class JournalTable {
  readonly #database: Database.Database;
  readonly #insertCommit: Database.Statement<[number, string | null, number, string, number]>;
  readonly #insertChange: Database.Statement;
  readonly #setSize: Database.Statement<[string]>;
  #nextChange = 1;
  #sizeBytes = 0;
  #sizeWritten = 0;
  #seq = 0;
  /** The author of the commit added last, and its JSON text. */
  #last: { author: Author | undefined; text: string } = { author: undefined, text: '' };

  constructor(database: Database.Database) {
    this.#database = database;
    this.#insertCommit = database.prepare(INSERT_COMMIT);
    this.#insertChange = database.prepare(INSERT_CHANGE);
    this.#setSize = database.prepare(SET_SIZE);
    this.reload();
  }

  /** The seq of the newest commit; 0 in an empty store. */
  get seq(): number {
    return this.#seq;
  }

  /** Adds a commit; its changes follow. */
  addCommit(seq: number, id: string | undefined, timeMs: number, author: Author): void {
    this.#insertCommit.run(seq, id ?? null, timeMs, this.#textOf(author), this.#nextChange);
    this.#seq = seq;
  }

  /** An author as JSON. The commits of one connection have the same object. */
  #textOf(author: Author): string {
    if (this.#last.author !== author) this.#last = { author, text: JSON.stringify(author) };
    return this.#last.text;
  }

  /** Adds one document of the commit added last, before and after, and the bytes of both. */
  addChange(seq: number, collection: number, before: Row | undefined, after: Row | undefined, sizeBytes: number): void {
    this.#insertChange.run(
      this.#nextChange++,
      seq,
      collection,
      (before ?? after)!.id,
      before?.version ?? null,
      before?.created ?? null,
      before?.updated ?? null,
      before?.expires ?? null,
      before?.data ?? null,
      after?.created ?? null,
      after?.expires ?? null,
      after?.data ?? null,
    );
    this.#sizeBytes += sizeBytes;
  }

  /**
   * Empties the oldest changes of a document that hold something, up to `limit`.
   *
   * @param name what the document is called in them from now on
   * @returns how many, the seq of the first, and the data that they held
   */
  empty(collection: number, id: string, name: string, limit: number) {
    type Kept = { number: number; seq: number; before: string | null; after: string | null };
    const begun = this.#database.prepare(HAS_EMPTIED).get(collection, name) !== undefined;
    const rows = this.#database.prepare<[number, string, number], Kept>(TO_EMPTY).all(collection, id, limit);
    const empty = this.#database.prepare<[string, number]>(EMPTY);
    const datas: string[] = [];
    for (const { number, before, after } of rows) {
      for (const data of [before, after]) {
        if (data === null) continue;
        datas.push(data);
        this.#sizeBytes -= Buffer.byteLength(data);
      }
      empty.run(name, number);
    }
    const [first] = rows;
    // Without its beginning, the document may be older than the journal.
    const isCut = first !== undefined && first.before !== null && !begun;
    return { changes: rows.length, firstSeq: isCut ? 0 : (first?.seq ?? null), datas };
  }

  /** Whether the journal has changes of a document, the last of which is not its erasure. */
  isUnsettled(collection: number, id: string): boolean {
    const latest = this.#database.prepare<[number, string], number>(LATEST_OF).pluck().get(collection, id);
    return latest !== undefined && latest !== 2;
  }

  /** Adds to the commit added last that it erased a document. */
  addErasure(seq: number, collection: number, name: string): void {
    this.#database.prepare(ERASE).run(this.#nextChange++, seq, collection, name);
  }

  /** Whether a commit wrote something of a collection that was erased. */
  hasErased(collection: number, seq: number): boolean {
    return this.#database.prepare(HAS_ERASED).get(collection, seq) !== undefined;
  }

  /** The oldest seq whose changes are still there. */
  get firstSeq(): number {
    return this.#database.prepare<[], number | null>(FIRST_SEQ).pluck().get() ?? 0;
  }

  /** Removes the commits up to `seq`, but never the newest. Their documents stay on disk, unseen, until {@link sweep}. */
  truncate(seq: number): void {
    this.#database.prepare<[number]>(TRUNCATE).run(seq);
  }

  /** Removes changes of commits that were removed, up to this many. Returns whether there were any. */
  sweep(limit: number): boolean {
    const end = this.#database.prepare<[], number>(FIRST_KEPT).pluck().get() ?? this.#nextChange;
    const start = this.#database.prepare<[], number | null>(FIRST_STORED).pluck().get() ?? end;
    if (start >= end) return false;
    const upTo = Math.min(start + limit, end);
    this.#sizeBytes -= this.#database.prepare<[number], number>(SIZE_BEFORE).pluck().get(upTo)!;
    this.#database.prepare<[number]>(SWEEP).run(upTo);
    return true;
  }

  /** Writes the size of the journal, at the end of a batch. */
  write(): void {
    if (this.#sizeBytes !== this.#sizeWritten) this.#setSize.run(String(this.#sizeBytes));
    this.#sizeWritten = this.#sizeBytes;
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#nextChange = this.#database.prepare<[], number>(NEXT_CHANGE).pluck().get()!;
    this.#sizeBytes = this.#sizeWritten = this.#database.prepare<[], number>(SIZE).pluck().get() ?? 0;
    this.#seq = this.#database.prepare<[], number>(LAST_SEQ).pluck().get()!;
  }
}
