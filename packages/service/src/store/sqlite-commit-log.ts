import type Database from 'better-sqlite3';
import {
  applyWrite,
  formatAddress,
  formatTime,
  sizeFault,
  type Commit,
  type Document,
  type DocumentChange,
  type DocumentLimits,
  type Write,
} from '@uproar/core';
import { ProblemError } from '@uproar/protocol';
import type { AppliedCommit, CommitLog, CommitOutcome } from './commit-log.js';
import type { Collections } from './collections.js';
import { readStored, type Documents, type StoredDocument } from './documents.js';
import type { Indexes } from './indexes.js';
import type { Journal, JournalEntry } from './journal.js';

/** At most so many commits are written in one transaction, so that none waits long for its neighbours. */
const MAX_GROUP_COMMITS = 512;

interface Waiting {
  commit: Commit;
  resolve(outcome: CommitOutcome): void;
  reject(error: Error): void;
}

/** A document in the store and as it is to be seen; read once in a group however many commits touch it. */
interface Held {
  stored: StoredDocument;
  document: Document;
}

/** One write of a commit, judged and ready to be written. */
interface Row {
  write: Write;
  before: Held | undefined;
  after: Held | undefined;
}

/** The tables a commit is written to. */
export interface CommitTables {
  database: Database.Database;
  collections: Collections;
  documents: Documents;
  journal: Journal;
  indexes: Indexes;
}

/**
 * The commit log of a store on its own. Commits that arrive together are judged one after the other and written
 * in one transaction with one sync to disk. A commit is judged whole before its first row is written, so a refused
 * one leaves nothing behind.
 */
export class SqliteCommitLog implements CommitLog {
  readonly #tables: CommitTables;
  readonly #limits: DocumentLimits;
  readonly #maxWaiting: number;
  readonly #listeners = new Set<(group: readonly AppliedCommit[]) => void>();
  readonly #begin: Database.Statement;
  readonly #commit: Database.Statement;
  readonly #rollback: Database.Statement;
  #queue: Waiting[] = [];
  #scheduled = false;
  #closed = false;
  #seq: number;

  constructor(tables: CommitTables, options: { limits: DocumentLimits; maxWaiting: number }) {
    this.#tables = tables;
    this.#limits = options.limits;
    this.#maxWaiting = options.maxWaiting;
    this.#begin = tables.database.prepare('BEGIN IMMEDIATE');
    this.#commit = tables.database.prepare('COMMIT');
    this.#rollback = tables.database.prepare('ROLLBACK');
    this.#seq = tables.journal.bounds().last;
  }

  get seq(): number {
    return this.#seq;
  }

  append(commit: Commit): Promise<CommitOutcome> {
    return new Promise((resolve, reject) => {
      if (this.#closed) {
        reject(ProblemError.of('stopping', 'The service is stopping; send the commit again when it is back.'));
      } else if (this.#queue.length >= this.#maxWaiting) {
        reject(
          ProblemError.of('overloaded', `${this.#queue.length} commits are waiting already. Try again in a second.`),
        );
      } else {
        this.#queue.push({ commit, resolve, reject });
        this.#schedule();
      }
    });
  }

  after(seq: number, limit: number): JournalEntry[] {
    return this.#tables.journal.after(seq, limit);
  }

  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  /** Writes what is waiting and takes nothing more. */
  close(): void {
    this.#closed = true;
    while (this.#queue.length > 0) this.#writeGroup();
  }

  #schedule(): void {
    if (this.#scheduled) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      if (this.#queue.length === 0) return;
      this.#writeGroup();
      if (this.#queue.length > 0) this.#schedule();
    });
  }

  #writeGroup(): void {
    const waiting = this.#queue.splice(0, MAX_GROUP_COMMITS);
    let outcomes: CommitOutcome[];
    try {
      outcomes = this.#applyAll(waiting.map(({ commit }) => commit));
    } catch (error) {
      const problem = storageProblem(error);
      for (const { reject } of waiting) reject(problem);
      return;
    }
    const group = outcomes.flatMap((outcome) => ('applied' in outcome ? outcome.applied : []));
    if (group.length > 0) for (const listener of this.#listeners) listener(group);
    waiting.forEach(({ resolve }, index) => resolve(outcomes[index]!));
  }

  /** Applies commits in one transaction: all that are not refused are on disk afterwards, or none. */
  #applyAll(commits: Commit[]): CommitOutcome[] {
    const seqBefore = this.#seq;
    this.#begin.run();
    try {
      const held = new Map<string, Held | undefined>();
      const outcomes = commits.map((commit) => this.#apply(commit, held));
      this.#tables.collections.write();
      this.#commit.run();
      return outcomes;
    } catch (error) {
      if (this.#tables.database.inTransaction) this.#rollback.run();
      this.#seq = seqBefore;
      this.#tables.collections.reload();
      throw error;
    }
  }

  #apply(commit: Commit, held: Map<string, Held | undefined>): CommitOutcome {
    const seq = this.#seq + 1;
    const stamp = { seq, timeMs: commit.timeMs };
    const altered = new Map<string, Held | undefined>();
    const changes: DocumentChange[] = [];
    const rows: Row[] = [];
    for (const [index, write] of commit.writes.entries()) {
      const address = formatAddress(write.collection, write.id);
      const before = altered.has(address) ? altered.get(address) : this.#hold(write, address, held);
      const outcome = applyWrite(before?.document, write, stamp);
      if ('refusal' in outcome) return { refused: outcome.refusal, write: index };
      const after = outcome.after && hold(outcome.after, before, stamp.timeMs);
      const fault = after && sizeFault(Buffer.byteLength(after.stored.data), this.#limits.sizeBytes);
      if (fault) {
        return { refused: { kind: 'bad-document', fault, collection: write.collection, id: write.id }, write: index };
      }
      altered.set(address, after);
      changes.push({ collection: write.collection, id: write.id, before: before?.document, after: after?.document });
      rows.push({ write, before, after });
    }
    this.#seq = seq;
    this.#tables.journal.addCommit(seq, commit.id, commit.timeMs, commit.author);
    for (const row of rows) this.#writeRow(row, stamp);
    for (const [address, document] of altered) held.set(address, document);
    return { applied: { seq, commit, changes } };
  }

  #hold(write: Write, address: string, held: Map<string, Held | undefined>): Held | undefined {
    if (held.has(address)) return held.get(address);
    const collection = this.#tables.collections.get(write.collection);
    const stored = collection && this.#tables.documents.get(collection.number, write.id);
    const found = stored && { stored, document: readStored(stored) };
    held.set(address, found);
    return found;
  }

  #writeRow({ write, before, after }: Row, stamp: { seq: number; timeMs: number }): void {
    const { collections, documents, journal, indexes } = this.#tables;
    const { number } = collections.count(write.collection, {
      ...stamp,
      documents: Number(Boolean(after)) - Number(Boolean(before)),
      sizeBytes: sizeOf(after?.stored) - sizeOf(before?.stored),
    });
    if (!after) documents.delete(number, write.id);
    else if (before) {
      // The document may have been made by an earlier write of this commit, and got its number only now.
      after.stored.number = before.stored.number;
      documents.update(number, after.stored);
    } else after.stored.number = documents.insert(number, after.stored);
    journal.addChange(stamp.seq, number, before?.stored, after?.stored);
    indexes.update(number, before?.document, after?.document, (after ?? before)!.stored.number);
  }
}

function sizeOf(stored: StoredDocument | undefined): number {
  return stored ? Buffer.byteLength(stored.data) : 0;
}

function hold(document: Document, before: Held | undefined, timeMs: number): Held {
  const created = before?.stored.created ?? timeMs;
  const data = JSON.stringify(document.data);
  return {
    // A new document gets its number when it is written.
    stored: {
      number: before?.stored.number ?? 0,
      id: document.id,
      version: document.version,
      created,
      updated: timeMs,
      data,
    },
    document: { ...document, created: formatTime(created) },
  };
}

function storageProblem(error: unknown): Error {
  const code = (error as { code?: unknown }).code;
  if (typeof code !== 'string' || !code.startsWith('SQLITE_')) return error as Error;
  const reason = code === 'SQLITE_FULL' ? 'the disk is full' : `${(error as Error).message} (${code})`;
  return ProblemError.of(
    'storage-failed',
    `Nothing of the commit was kept: ${reason}. Make room or mend the disk, then send it again.`,
  );
}
