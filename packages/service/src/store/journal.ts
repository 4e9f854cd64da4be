import type Database from 'better-sqlite3';
import type { Author, Document, DocumentChange } from '@uproar/core';
import type { Collections } from './collections.js';
import { readStored, type StoredDocument } from './documents.js';

/** One commit as the journal keeps it. */
export interface JournalEntry {
  seq: number;
  id: string | undefined;
  timeMs: number;
  author: Author;
  changes: JournalChange[];
  /** The bytes of the documents in it, before and after. */
  sizeBytes: number;
}

/** A change of one document, and its place among the changes of its commit, from 0. */
export interface JournalChange extends DocumentChange {
  place: number;
}

type Row = Omit<StoredDocument, 'number'>;

interface CommitRow {
  seq: number;
  id: string | null;
  time: number;
  author: string;
  firstChange: number;
}

/** The first and the last of a document's changes. */
interface Ends {
  first: number;
  last: number;
}

interface ChangeRow {
  number: number;
  seq: number;
  time: number;
  collection: number;
  document: string;
  versionBefore: number | null;
  createdBefore: number | null;
  updatedBefore: number | null;
  before: string | null;
  createdAfter: number | null;
  after: string | null;
}

const CHANGE_COLUMNS = `
  changes.number, changes.seq, commits.time, changes.collection, changes.document,
  changes.version_before AS versionBefore, changes.created_before AS createdBefore,
  changes.updated_before AS updatedBefore, changes.before,
  changes.created_after AS createdAfter, changes.after`;
const FROM_CHANGES = `SELECT ${CHANGE_COLUMNS} FROM changes JOIN commits USING (seq)`;
const INSERT_COMMIT = 'INSERT INTO commits (seq, id, time, author, first_change) VALUES (?, ?, ?, ?, ?)';
const INSERT_CHANGE = `
  INSERT INTO changes (number, seq, collection, document, version_before, created_before, updated_before, before,
                       created_after, after)
  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`;
const BOUNDS = 'SELECT MIN(seq) AS first, MAX(seq) AS last FROM commits';
const NEXT_CHANGE = `
  SELECT MAX(COALESCE((SELECT MAX(number) + 1 FROM changes), 1),
             COALESCE((SELECT first_change FROM commits ORDER BY seq DESC LIMIT 1), 1))`;
const COMMITS_AFTER =
  'SELECT seq, id, time, author, first_change AS firstChange FROM commits WHERE seq > ? ORDER BY seq LIMIT ?';
const COMMITS_BEFORE = `
  SELECT seq, id, time, author, first_change AS firstChange FROM commits WHERE seq < ? ORDER BY seq DESC LIMIT ?`;
const COMMIT = 'SELECT seq, id, time, author, first_change AS firstChange FROM commits WHERE seq = ?';
const FIRST_CHANGE_AFTER = 'SELECT first_change FROM commits WHERE seq > ? ORDER BY seq LIMIT 1';
const CHANGES_BETWEEN = `${FROM_CHANGES} WHERE changes.number >= ? AND changes.number < ? ORDER BY changes.number`;
const ENDS_BY_COLLECTION = `
  SELECT MIN(number) AS first, MAX(number) AS last FROM changes INDEXED BY changes_by_collection
  WHERE collection = ? AND seq > ? GROUP BY document ORDER BY last`;
const ENDS_BY_DOCUMENT = `
  SELECT MIN(number) AS first, MAX(number) AS last FROM changes INDEXED BY changes_by_document
  WHERE collection = ? AND document = ? AND seq > ? HAVING first IS NOT NULL`;
const CHANGE = `${FROM_CHANGES} WHERE changes.number = ?`;
const LAST_CHANGE_TO = `
  ${FROM_CHANGES} WHERE changes.collection = ? AND changes.document = ? AND changes.seq <= ?
  ORDER BY changes.seq DESC, changes.number DESC LIMIT 1`;
const FIRST_CHANGE_OF = `
  ${FROM_CHANGES} WHERE changes.collection = ? AND changes.document = ? AND changes.seq > ?
  ORDER BY changes.seq, changes.number LIMIT 1`;
const SEQS_BEFORE = `
  SELECT DISTINCT seq FROM changes JOIN commits USING (seq)
  WHERE collection = ? AND document = ? AND seq < ? ORDER BY seq DESC LIMIT ?`;
const SEQS_AFTER = `
  SELECT DISTINCT seq FROM changes JOIN commits USING (seq)
  WHERE collection = ? AND document = ? AND seq > ? ORDER BY seq LIMIT ?`;
const CHANGES_OF = `
  ${FROM_CHANGES} WHERE changes.collection = ? AND changes.document = ? AND changes.seq = ? ORDER BY changes.number`;
const SIZE_BEFORE = `
  SELECT COALESCE(SUM(OCTET_LENGTH(COALESCE(before, '')) + OCTET_LENGTH(COALESCE(after, ''))), 0)
  FROM changes WHERE number < ?`;
const SIZE = "SELECT CAST(value AS INTEGER) FROM store WHERE name = 'journal-bytes'";
const SET_SIZE = "UPDATE store SET value = ? WHERE name = 'journal-bytes'";

/** Changes, and bytes, taken into memory at a time, however many commits they belong to; one commit is never taken in part. */
const CHANGES_AT_ONCE = 5000;
const BYTES_AT_ONCE = 8 * 1024 * 1024;

/** The journal of a store: every commit in order, each with its documents before and after. */
export class Journal {
  readonly #database: Database.Database;
  readonly #collections: Collections;
  readonly #insertCommit: Database.Statement<[number, string | null, number, string, number]>;
  readonly #insertChange: Database.Statement;
  readonly #setSize: Database.Statement<[string]>;
  readonly #bounds: Database.Statement<[], { first: number | null; last: number | null }>;
  #nextChange = 1;
  #sizeBytes = 0;
  #sizeWritten = 0;

  constructor(database: Database.Database, collections: Collections) {
    this.#database = database;
    this.#collections = collections;
    this.#insertCommit = database.prepare(INSERT_COMMIT);
    this.#insertChange = database.prepare(INSERT_CHANGE);
    this.#setSize = database.prepare(SET_SIZE);
    this.#bounds = database.prepare(BOUNDS);
    this.reload();
  }

  /** The oldest and newest seq that the journal holds; 0 and 0 when it is empty. */
  bounds(): { first: number; last: number } {
    const { first, last } = this.#bounds.get()!;
    return { first: first ?? 0, last: last ?? 0 };
  }

  /** The bytes of all documents in the journal, before and after. */
  get sizeBytes(): number {
    return this.#sizeBytes;
  }

  /** Adds a commit; its changes follow. Belongs inside the transaction that writes its documents. */
  addCommit(seq: number, id: string | undefined, timeMs: number, author: Author): void {
    this.#insertCommit.run(seq, id ?? null, timeMs, JSON.stringify(author), this.#nextChange);
  }

  /** Adds one document of the commit added last, as it was and as it is, and the bytes of both. */
  addChange(seq: number, collection: number, before: Row | undefined, after: Row | undefined, sizeBytes: number): void {
    this.#insertChange.run(
      this.#nextChange++,
      seq,
      collection,
      (before ?? after)!.id,
      before?.version ?? null,
      before?.created ?? null,
      before?.updated ?? null,
      before?.data ?? null,
      after?.created ?? null,
      after?.data ?? null,
    );
    this.#sizeBytes += sizeBytes;
  }

  /** Writes how large the journal is now. Belongs inside the same transaction. */
  writeSize(): void {
    if (this.#sizeBytes !== this.#sizeWritten) this.#setSize.run(String(this.#sizeBytes));
    this.#sizeWritten = this.#sizeBytes;
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#nextChange = this.#database.prepare<[], number>(NEXT_CHANGE).pluck().get()!;
    this.#sizeBytes = this.#sizeWritten = this.#database.prepare<[], number>(SIZE).pluck().get() ?? 0;
  }

  /** Commits after `seq`, oldest first: up to `limit`, fewer where they are large; at least one if there is one. */
  after(seq: number, limit: number, bytes = BYTES_AT_ONCE): JournalEntry[] {
    return this.#entries(this.#prepare<[number, number], CommitRow>(COMMITS_AFTER).all(seq, limit), bytes);
  }

  /** Commits before `seq`, newest first. As {@link after}. */
  before(seq: number, limit: number, bytes = BYTES_AT_ONCE): JournalEntry[] {
    return this.#entries(this.#prepare<[number, number], CommitRow>(COMMITS_BEFORE).all(seq, limit), bytes);
  }

  /**
   * The commits that touched one document, each with its changes of that document only: up to `limit` of those before
   * a seq, newest first, or of those after one, oldest first; fewer where they are large, but at least one if there is one.
   */
  ofDocument(
    collection: number,
    id: string,
    place: { before: number } | { after: number },
    limit: number,
    mostBytes = BYTES_AT_ONCE,
  ): JournalEntry[] {
    const seqs =
      'before' in place
        ? this.#prepare<[number, string, number, number], number>(SEQS_BEFORE)
            .pluck()
            .all(collection, id, place.before, limit)
        : this.#prepare<[number, string, number, number], number>(SEQS_AFTER)
            .pluck()
            .all(collection, id, place.after, limit);
    const entries: JournalEntry[] = [];
    let bytes = 0;
    for (const seq of seqs) {
      if (bytes >= mostBytes) break;
      const rows = this.#prepare<[number, string, number], ChangeRow>(CHANGES_OF).all(collection, id, seq);
      const commit = this.#prepare<[number], CommitRow>(COMMIT).get(seq)!;
      entries.push(this.#entry(commit, rows));
      bytes += entries.at(-1)!.sizeBytes;
    }
    return entries;
  }

  /** The change of a document by the commit `seq`; the last, where there are several. */
  changeAt(collection: number, id: string, seq: number): DocumentChange | undefined {
    const row = this.#prepare<[number, string, number], ChangeRow>(LAST_CHANGE_TO).get(collection, id, seq);
    return row?.seq === seq ? this.#read(row) : undefined;
  }

  /**
   * A document as it was when the store was at `seq`, which the journal must reach back to.
   *
   * @param now the document as it is
   */
  documentAt(collection: number, id: string, seq: number, now: () => Document | undefined): Document | undefined {
    const last = this.#prepare<[number, string, number], ChangeRow>(LAST_CHANGE_TO).get(collection, id, seq);
    if (last) return this.#read(last).after;
    const next = this.#prepare<[number, string, number], ChangeRow>(FIRST_CHANGE_OF).get(collection, id, seq);
    return next ? this.#read(next).before : now();
  }

  /** Where the changes behind the commit `seq` begin. */
  #firstChangeAfter(seq: number): number {
    return this.#prepare<[number], number>(FIRST_CHANGE_AFTER).pluck().get(seq) ?? this.#nextChange;
  }

  /** The bytes of the documents in the commits up to `seq`. */
  sizeUpTo(seq: number): number {
    return this.#prepare<[number], number>(SIZE_BEFORE).pluck().get(this.#firstChangeAfter(seq))!;
  }

  /** The last seq from `first` up to which there are at most this many changes; `first` if it has more. */
  reachingOver(first: number, changes: number): number {
    const start = this.#firstChangeAfter(first - 1);
    const seq = this.#prepare<[number], number>('SELECT seq FROM changes WHERE number = ?')
      .pluck()
      .get(start + changes);
    return seq === undefined ? Number.MAX_SAFE_INTEGER : Math.max(first, seq - 1);
  }

  /** Removes the commits up to `seq`. Their documents stay on disk, unseen, until they are swept out. */
  cut(seq: number): void {
    this.#prepare<[number]>('DELETE FROM commits WHERE seq <= ?').run(seq);
  }

  /** Removes changes of commits that were removed, up to this many. Returns true if there were any. */
  sweep(limit: number): boolean {
    const { first } = this.bounds();
    const end = first === 0 ? this.#nextChange : this.#firstChangeAfter(first - 1);
    const start = this.#prepare<[], number | null>('SELECT MIN(number) FROM changes').pluck().get() ?? end;
    if (start >= end) return false;
    const upTo = Math.min(start + limit, end);
    try {
      this.#database.transaction(() => {
        this.#sizeBytes -= this.#prepare<[number], number>(SIZE_BEFORE).pluck().get(upTo)!;
        this.#prepare<[number]>('DELETE FROM changes WHERE number < ?').run(upTo);
        this.writeSize();
      })();
    } catch (error) {
      this.reload();
      throw error;
    }
    return true;
  }

  /** The commits with their changes, as many as may be in memory at once. All rows must stand in one direction. */
  #entries(commits: CommitRow[], mostBytes: number): JournalEntry[] {
    const entries: JournalEntry[] = [];
    let changes = 0;
    let bytes = 0;
    for (const commit of commits) {
      if (changes >= CHANGES_AT_ONCE || bytes >= mostBytes) break;
      const rows = this.#prepare<[number, number], ChangeRow>(CHANGES_BETWEEN).all(
        commit.firstChange,
        this.#firstChangeAfter(commit.seq),
      );
      changes += rows.length;
      entries.push(this.#entry(commit, rows));
      bytes += entries.at(-1)!.sizeBytes;
    }
    return entries;
  }

  readonly #statements = new Map<string, Database.Statement>();

  #prepare<Parameters extends unknown[], Result = unknown>(sql: string): Database.Statement<Parameters, Result> {
    let statement = this.#statements.get(sql);
    if (!statement) this.#statements.set(sql, (statement = this.#database.prepare(sql)));
    return statement as unknown as Database.Statement<Parameters, Result>;
  }

  /** Whether the journal holds every commit after `seq`. */
  reachesBackTo(seq: number): boolean {
    const { first, last } = this.bounds();
    return seq <= last && seq >= first - 1;
  }

  /**
   * The net changes after `seq`: for each document of the collection (or the one document), its state at `seq` and its
   * present state.
   */
  netChangesAfter(seq: number, collection: number, document?: string): DocumentChange[] {
    return this.#netChanges(seq, collection, document, Infinity, Infinity)!;
  }

  /** As {@link netChangesAfter}; undefined where that is too much to be worked out at once. */
  fewChangesAfter(seq: number, collection: number, document?: string): DocumentChange[] | undefined {
    return this.#netChanges(seq, collection, document, CHANGES_AT_ONCE, BYTES_AT_ONCE);
  }

  #netChanges(
    seq: number,
    collection: number,
    document: string | undefined,
    mostChanges: number,
    mostBytes: number,
  ): DocumentChange[] | undefined {
    const ends =
      document === undefined
        ? this.#prepare<[number, number], Ends>(ENDS_BY_COLLECTION).all(collection, seq)
        : this.#prepare<[number, string, number], Ends>(ENDS_BY_DOCUMENT).all(collection, document, seq);
    if (ends.length > mostChanges) return undefined;
    const changes: DocumentChange[] = [];
    let bytes = 0;
    for (const { first, last } of ends) {
      const row = this.#prepare<[number], ChangeRow>(CHANGE).get(last)!;
      const firstRow = first === last ? row : this.#prepare<[number], ChangeRow>(CHANGE).get(first)!;
      if ((bytes += (firstRow.before?.length ?? 0) + (row.after?.length ?? 0)) > mostBytes) return undefined;
      const change = { ...this.#read(row), before: this.#read(firstRow).before };
      if (change.before || change.after) changes.push(change);
    }
    return changes;
  }

  #entry(commit: CommitRow, rows: ChangeRow[]): JournalEntry {
    return {
      ...readCommit(commit),
      changes: rows.map((row) => ({ ...this.#read(row), place: row.number - commit.firstChange })),
      sizeBytes: rows.reduce((sum, row) => sum + sizeOf(row), 0),
    };
  }

  #read(row: ChangeRow): DocumentChange {
    const before =
      row.before === null
        ? undefined
        : readStored({
            id: row.document,
            version: row.versionBefore!,
            created: row.createdBefore!,
            updated: row.updatedBefore!,
            data: row.before,
          });
    const after =
      row.after === null
        ? undefined
        : readStored({
            id: row.document,
            version: row.seq,
            created: row.createdAfter!,
            updated: row.time,
            data: row.after,
          });
    return { collection: this.#collections.nameOf(row.collection), id: row.document, before, after };
  }
}

function sizeOf({ before, after }: ChangeRow): number {
  return (before?.length ?? 0) + (after?.length ?? 0);
}

function readCommit({ seq, id, time, author }: CommitRow): Omit<JournalEntry, 'changes' | 'sizeBytes'> {
  return { seq, id: id ?? undefined, timeMs: time, author: JSON.parse(author) as Author };
}
