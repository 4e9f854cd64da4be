import type { Author, Document, DocumentChange } from '@uproar/core';
import { readStored } from '../state/stored-document.js';
import type { Collections } from './collections.js';
import type { Reads } from './reads.js';

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

/** A change whose contents may have been erased. */
export interface KeptChange extends DocumentChange {
  /** `contents`: what it held was erased later. `now`: it erased the document with its past. */
  erased?: 'contents' | 'now';
}

/** A change of one document, and its place among the changes of its commit, from 0. */
export interface JournalChange extends KeptChange {
  place: number;
}

/** What one commit did to one document. */
export interface CommitChange extends KeptChange {
  seq: number;
  commitId: string | undefined;
  timeMs: number;
  author: Author;
  /** The bytes of the document before and after. */
  sizeBytes: number;
}

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
  expiresBefore: number | null;
  before: string | null;
  createdAfter: number | null;
  expiresAfter: number | null;
  after: string | null;
  /** 0: as it was written; 1: its contents were erased; 2: the erasure itself. */
  erased: 0 | 1 | 2;
}

const CHANGE_COLUMNS = `
  changes.number, changes.seq, commits.time, changes.collection, changes.document,
  changes.version_before AS versionBefore, changes.created_before AS createdBefore,
  changes.updated_before AS updatedBefore, changes.expires_before AS expiresBefore, changes.before,
  changes.created_after AS createdAfter, changes.expires_after AS expiresAfter, changes.after, changes.erased`;
const FROM_CHANGES = `SELECT ${CHANGE_COLUMNS} FROM changes JOIN commits USING (seq)`;
const BOUNDS = 'SELECT MIN(seq) AS first, MAX(seq) AS last FROM commits';
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
const WITH_COMMITS = `
  SELECT ${CHANGE_COLUMNS}, commits.id AS commitId, commits.author FROM changes JOIN commits USING (seq)`;
const OF_COLLECTION = `
  ${WITH_COMMITS} WHERE changes.collection = ? AND changes.seq > ? AND changes.seq <= ?
  ORDER BY changes.seq, changes.number`;
const OF_DOCUMENT = `
  ${WITH_COMMITS} WHERE changes.collection = ? AND changes.document = ? AND changes.seq > ? AND changes.seq <= ?
  ORDER BY changes.seq, changes.number`;
const ERASED_AFTER = 'SELECT MAX(seq) FROM erasures WHERE collection = ? AND seq > ?';
const DOCUMENT_ERASED = `
  SELECT 1 FROM changes INDEXED BY changes_by_document
  WHERE collection = ? AND document = ? AND seq > ? AND erased = 2 LIMIT 1`;
const IDS_ERASED = 'SELECT 1 FROM erasures WHERE collection = ? AND seq > ? AND forgets_ids = 1 LIMIT 1';
const SIZE_BEFORE = `
  SELECT COALESCE(SUM(OCTET_LENGTH(COALESCE(before, '')) + OCTET_LENGTH(COALESCE(after, ''))), 0)
  FROM changes WHERE number < ?`;
const SIZE = "SELECT CAST(value AS INTEGER) FROM store WHERE name = 'journal-bytes'";

/** Changes, and bytes, taken into memory at a time, however many commits they belong to; one commit is never taken in part. */
const CHANGES_AT_ONCE = 5000;
const BYTES_AT_ONCE = 8 * 1024 * 1024;

/** The journal of a store: every commit in order, each with its documents before and after. */
export class Journal {
  readonly #reads: Reads;
  readonly #collections: Collections;

  constructor(reads: Reads, collections: Collections) {
    this.#reads = reads;
    this.#collections = collections;
  }

  /** The oldest and newest seq that the journal holds; 0 and 0 when it is empty. */
  bounds(): { first: number; last: number } {
    const { first, last } = this.#reads.statement<[], { first: number | null; last: number | null }>(BOUNDS).get()!;
    return { first: first ?? 0, last: last ?? 0 };
  }

  /** The bytes of all documents in the journal, before and after. */
  get sizeBytes(): number {
    return this.#reads.values<[], number>(SIZE).get() ?? 0;
  }

  /** Commits after `seq`, oldest first: up to `limit`, fewer where they are large; at least one if there is one. */
  after(seq: number, limit: number, bytes = BYTES_AT_ONCE): JournalEntry[] {
    return this.#entries(this.#reads.statement<[number, number], CommitRow>(COMMITS_AFTER).all(seq, limit), bytes);
  }

  /** Commits before `seq`, newest first. As {@link after}. */
  before(seq: number, limit: number, bytes = BYTES_AT_ONCE): JournalEntry[] {
    return this.#entries(this.#reads.statement<[number, number], CommitRow>(COMMITS_BEFORE).all(seq, limit), bytes);
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
        ? this.#reads
            .values<[number, string, number, number], number>(SEQS_BEFORE)
            .all(collection, id, place.before, limit)
        : this.#reads
            .values<[number, string, number, number], number>(SEQS_AFTER)
            .all(collection, id, place.after, limit);
    const entries: JournalEntry[] = [];
    let bytes = 0;
    for (const seq of seqs) {
      if (bytes >= mostBytes) break;
      const rows = this.#reads.statement<[number, string, number], ChangeRow>(CHANGES_OF).all(collection, id, seq);
      const commit = this.#reads.statement<[number], CommitRow>(COMMIT).get(seq)!;
      entries.push(this.#entry(commit, rows));
      bytes += entries.at(-1)!.sizeBytes;
    }
    return entries;
  }

  /** The change of a document by the commit `seq`; the last, where there are several. */
  changeAt(collection: number, id: string, seq: number): DocumentChange | undefined {
    const row = this.#reads.statement<[number, string, number], ChangeRow>(LAST_CHANGE_TO).get(collection, id, seq);
    return row?.seq === seq ? this.#read(row) : undefined;
  }

  /**
   * A document as it was when the store was at `seq`, which the journal must reach back to.
   *
   * @param now the document as it is
   */
  documentAt(collection: number, id: string, seq: number, now: () => Document | undefined): Document | undefined {
    const last = this.#reads.statement<[number, string, number], ChangeRow>(LAST_CHANGE_TO).get(collection, id, seq);
    if (last) return this.#read(last).after;
    const next = this.#reads.statement<[number, string, number], ChangeRow>(FIRST_CHANGE_OF).get(collection, id, seq);
    return next ? this.#read(next).before : now();
  }

  /**
   * What the commits after one seq and up to another did to the documents of a collection, or to one of them: one change for
   * each document and commit, in order. It ends with the commit that reaches `limit` changes or `mostBytes`.
   *
   * @returns the changes, and the seq up to which they are complete
   */
  commitChanges(
    { collection, id }: { collection: number; id?: string | undefined },
    after: number,
    upTo: number,
    limit: number,
    mostBytes = BYTES_AT_ONCE,
  ): { changes: CommitChange[]; seq: number } {
    type Row = ChangeRow & { commitId: string | null; author: string };
    const rows =
      id === undefined
        ? this.#reads.statement<[number, number, number], Row>(OF_COLLECTION).iterate(collection, after, upTo)
        : this.#reads
            .statement<[number, string, number, number], Row>(OF_DOCUMENT)
            .iterate(collection, id, after, upTo);
    let ofCommit = new Map<string, CommitChange>();
    const changes: CommitChange[] = [];
    let [seq, bytes] = [0, 0];
    for (const row of rows) {
      if (row.seq !== seq) {
        changes.push(...ofCommit.values());
        if (changes.length >= limit || bytes >= mostBytes) return { changes, seq };
        ofCommit = new Map();
        seq = row.seq;
      }
      const change = this.#read(row);
      const earlier = ofCommit.get(change.id);
      if (earlier) earlier.after = change.after;
      else {
        const { commitId, time, author } = row;
        const commit = { commitId: commitId ?? undefined, timeMs: time, author: JSON.parse(author) as Author };
        ofCommit.set(change.id, { ...change, seq, ...commit, sizeBytes: sizeOf(row) });
      }
      bytes += sizeOf(row);
    }
    changes.push(...ofCommit.values());
    return {
      changes: changes.filter(({ before, after: now, erased }) => before ?? now ?? erased === 'now'),
      seq: upTo,
    };
  }

  /** Where the changes behind the commit `seq` begin. */
  #firstChangeAfter(seq: number): number {
    return this.#reads.values<[number], number>(FIRST_CHANGE_AFTER).get(seq) ?? Number.MAX_SAFE_INTEGER;
  }

  /** Whether there are changes of commits that were removed. */
  get hasUnswept(): boolean {
    const first = this.#reads.values<[], number | null>('SELECT MIN(number) FROM changes').get() ?? undefined;
    return first !== undefined && first < this.#firstChangeAfter(this.bounds().first - 1);
  }

  /** The bytes of the documents in the commits up to `seq`. */
  sizeUpTo(seq: number): number {
    return this.#reads.values<[number], number>(SIZE_BEFORE).get(this.#firstChangeAfter(seq))!;
  }

  /** The last seq from `first` up to which there are at most this many changes; `first` if it has more. */
  reachingOver(first: number, changes: number): number {
    const start = this.#firstChangeAfter(first - 1);
    const seq = this.#reads.values<[number], number>('SELECT seq FROM changes WHERE number = ?').get(start + changes);
    return seq === undefined ? Number.MAX_SAFE_INTEGER : Math.max(first, seq - 1);
  }

  /** The commits with their changes, as many as may be in memory at once. All rows must stand in one direction. */
  #entries(commits: CommitRow[], mostBytes: number): JournalEntry[] {
    const entries: JournalEntry[] = [];
    let changes = 0;
    let bytes = 0;
    for (const commit of commits) {
      if (changes >= CHANGES_AT_ONCE || bytes >= mostBytes) break;
      const rows = this.#reads
        .statement<[number, number], ChangeRow>(CHANGES_BETWEEN)
        .all(commit.firstChange, this.#firstChangeAfter(commit.seq));
      changes += rows.length;
      entries.push(this.#entry(commit, rows));
      bytes += entries.at(-1)!.sizeBytes;
    }
    return entries;
  }

  /** Whether the journal holds every commit after `seq`. */
  reachesBackTo(seq: number): boolean {
    const { first, last } = this.bounds();
    return seq <= last && seq >= first - 1;
  }

  /**
   * The seq of the newest erasure of documents of a collection, if it came after `seq`. Then the changes after `seq` cannot
   * be told.
   */
  erasedAfter(seq: number, collection: string): number | undefined {
    return this.#reads.values<[string, number], number | null>(ERASED_AFTER).get(collection, seq) ?? undefined;
  }

  /** Whether the state of a document at `seq` was erased. */
  isErasedAt(seq: number, collection: number, name: string, id: string): boolean {
    if (this.#reads.values<[number, string, number], number>(DOCUMENT_ERASED).get(collection, id, seq)) return true;
    // Where ids were erased, too, the journal does not know any more which documents there were.
    const forgot = this.#reads.values<[string, number], number>(IDS_ERASED).get(name, seq) !== undefined;
    const last = this.#reads.statement<[number, string, number], ChangeRow>(LAST_CHANGE_TO).get(collection, id, seq);
    return forgot && !last;
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
        ? this.#reads.statement<[number, number], Ends>(ENDS_BY_COLLECTION).all(collection, seq)
        : this.#reads.statement<[number, string, number], Ends>(ENDS_BY_DOCUMENT).all(collection, document, seq);
    if (ends.length > mostChanges) return undefined;
    const changes: DocumentChange[] = [];
    let bytes = 0;
    for (const { first, last } of ends) {
      const row = this.#reads.statement<[number], ChangeRow>(CHANGE).get(last)!;
      const firstRow = first === last ? row : this.#reads.statement<[number], ChangeRow>(CHANGE).get(first)!;
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

  #read(row: ChangeRow): KeptChange {
    const before =
      row.before === null
        ? undefined
        : readStored({
            id: row.document,
            version: row.versionBefore!,
            created: row.createdBefore!,
            updated: row.updatedBefore!,
            expires: row.expiresBefore,
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
            expires: row.expiresAfter,
            data: row.after,
          });
    const change = { collection: this.#collections.nameOf(row.collection), id: row.document, before, after };
    return row.erased === 0 ? change : { ...change, erased: row.erased === 1 ? 'contents' : 'now' };
  }
}

function sizeOf({ before, after }: ChangeRow): number {
  return (before?.length ?? 0) + (after?.length ?? 0);
}

function readCommit({ seq, id, time, author }: CommitRow): Omit<JournalEntry, 'changes' | 'sizeBytes'> {
  return { seq, id: id ?? undefined, timeMs: time, author: JSON.parse(author) as Author };
}
