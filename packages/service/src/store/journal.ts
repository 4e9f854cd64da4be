import type Database from 'better-sqlite3';
import type { Author, DocumentChange } from '@uproar/core';
import type { Collections } from './collections.js';
import { readStored, type StoredDocument } from './documents.js';

/** One commit as the journal keeps it. */
export interface JournalEntry {
  seq: number;
  id: string | undefined;
  timeMs: number;
  author: Author;
  changes: DocumentChange[];
}

type Row = Omit<StoredDocument, 'number'>;

interface CommitRow {
  seq: number;
  id: string | null;
  time: number;
  author: string;
}

interface ChangeRow {
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
  changes.seq, commits.time, changes.collection, changes.document,
  changes.version_before AS versionBefore, changes.created_before AS createdBefore,
  changes.updated_before AS updatedBefore, changes.before,
  changes.created_after AS createdAfter, changes.after`;
const INSERT_COMMIT = 'INSERT INTO commits (seq, id, time, author) VALUES (?, ?, ?, ?)';
const INSERT_CHANGE = `
  INSERT INTO changes (seq, collection, document, version_before, created_before, updated_before, before,
                       created_after, after)
  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`;
const BOUNDS = 'SELECT MIN(seq) AS first, MAX(seq) AS last FROM commits';
const COMMITS_AFTER = 'SELECT seq, id, time, author FROM commits WHERE seq > ? ORDER BY seq LIMIT ?';
const CHANGES_BETWEEN = `
  SELECT ${CHANGE_COLUMNS} FROM changes JOIN commits USING (seq)
  WHERE changes.seq BETWEEN ? AND ? ORDER BY changes.number`;
const ENDS_BY_COLLECTION = `
  SELECT MIN(number) AS first, MAX(number) AS last FROM changes
  WHERE collection = ? AND seq > ? GROUP BY document ORDER BY last`;
const ENDS_BY_DOCUMENT = `
  SELECT MIN(number) AS first, MAX(number) AS last FROM changes
  WHERE collection = ? AND document = ? AND seq > ? HAVING first IS NOT NULL`;
const CHANGE = `
  SELECT ${CHANGE_COLUMNS} FROM changes JOIN commits USING (seq) WHERE changes.number = ?`;

/** The journal of a store: every commit in order, each with its documents before and after. */
export class Journal {
  readonly #collections: Collections;
  readonly #insertCommit: Database.Statement<[number, string | null, number, string]>;
  readonly #insertChange: Database.Statement;
  readonly #commitsAfter: Database.Statement<[number, number], CommitRow>;
  readonly #changesBetween: Database.Statement<[number, number], ChangeRow>;
  readonly #endsByCollection: Database.Statement<[number, number], { first: number; last: number }>;
  readonly #endsByDocument: Database.Statement<[number, string, number], { first: number; last: number }>;
  readonly #change: Database.Statement<[number], ChangeRow>;
  /** The oldest and newest seq that the journal holds; 0 and 0 when it is empty. */
  readonly bounds: () => { first: number; last: number };

  constructor(database: Database.Database, collections: Collections) {
    this.#collections = collections;
    this.#insertCommit = database.prepare(INSERT_COMMIT);
    this.#insertChange = database.prepare(INSERT_CHANGE);
    this.#commitsAfter = database.prepare(COMMITS_AFTER);
    this.#changesBetween = database.prepare(CHANGES_BETWEEN);
    this.#endsByCollection = database.prepare(ENDS_BY_COLLECTION);
    this.#endsByDocument = database.prepare(ENDS_BY_DOCUMENT);
    this.#change = database.prepare(CHANGE);
    const bounds = database.prepare<[], { first: number | null; last: number | null }>(BOUNDS);
    this.bounds = () => {
      const { first, last } = bounds.get()!;
      return { first: first ?? 0, last: last ?? 0 };
    };
  }

  /** Adds a commit. Belongs inside the transaction that writes its documents. */
  addCommit(seq: number, id: string | undefined, timeMs: number, author: Author): void {
    this.#insertCommit.run(seq, id ?? null, timeMs, JSON.stringify(author));
  }

  /** Adds one document of a commit, as it was and as it is. */
  addChange(seq: number, collection: number, before: Row | undefined, after: Row | undefined): void {
    this.#insertChange.run(
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
  }

  /** Up to `limit` commits after `seq`, oldest first. */
  after(seq: number, limit: number): JournalEntry[] {
    const commits = this.#commitsAfter.all(seq, limit);
    const entries = new Map<number, JournalEntry>();
    for (const { seq, id, time, author } of commits) {
      entries.set(seq, { seq, id: id ?? undefined, timeMs: time, author: JSON.parse(author) as Author, changes: [] });
    }
    const last = commits.at(-1);
    if (last) {
      for (const row of this.#changesBetween.iterate(commits[0]!.seq, last.seq)) {
        entries.get(row.seq)!.changes.push(this.#read(row));
      }
    }
    return [...entries.values()];
  }

  /** Tells whether the journal holds every commit after `seq`. */
  reachesBackTo(seq: number): boolean {
    const { first, last } = this.bounds();
    return seq <= last && seq >= first - 1;
  }

  /**
   * What the commits after `seq` came to: for each document of the collection (or the one document) that they
   * touched, how it was at `seq` and how it is now.
   */
  netChangesAfter(seq: number, collection: number, document?: string): DocumentChange[] {
    const ends =
      document === undefined
        ? this.#endsByCollection.all(collection, seq)
        : this.#endsByDocument.all(collection, document, seq);
    return ends
      .map(({ first, last }) => {
        const change = this.#read(this.#change.get(last)!);
        return first === last ? change : { ...change, before: this.#read(this.#change.get(first)!).before };
      })
      .filter((change) => change.before || change.after);
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
