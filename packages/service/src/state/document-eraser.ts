import { type Commit, type DocumentChange } from '@uproar/core';
import { FILES, hashOf } from './blob-table.js';
import type { CommitTables } from './commit-applier.js';
import type { ErasureTable, OpenErasure } from './erasure-table.js';
import type { AppliedCommit, Outcomes } from './outcomes.js';
import type { RecordOf } from './records.js';
import { readStored, type StoredDocument } from './stored-document.js';

/** A document that is about to be erased. */
interface Doomed {
  id: string;
  /** What the journal calls it from now on. */
  name: string;
  stored: StoredDocument | undefined;
}

/**
 * Removes documents with their past: one commit deletes those that exist, and what the journal holds of them is emptied.
 * The commits and their order stay.
 */
export class DocumentEraser {
  readonly #tables: Omit<CommitTables, 'policies' | 'schemas' | 'store'>;
  readonly #erasures: ErasureTable;

  constructor(tables: Omit<CommitTables, 'policies' | 'schemas' | 'store'>, erasures: ErasureTable) {
    this.#tables = tables;
    this.#erasures = erasures;
  }

  /** Erases the first of the documents of a record, as many as its number of changes allows. */
  erase(record: RecordOf<'documents-erased'>, timeMs: number, place: number): Outcomes['documents-erased'] {
    const { collection, ids, changes: most } = record;
    const erasure = this.#erasures.get(record.erasure);
    const number = this.#tables.collections.get(collection)?.number;
    if (!erasure || number === undefined) return { done: ids.length, removed: [] };
    const doomed: Doomed[] = [];
    let [done, changes, firstSeq] = [0, 0, null as number | null];
    const [contents, seen] = [new Set<string>(), new Set<string>()];
    for (const id of ids) {
      if (seen.has(id)) {
        done++;
        continue;
      }
      seen.add(id);
      const name = nameOf(record.erasure, erasure, doomed.length, id);
      const emptied = this.#tables.journal.empty(number, id, name, most - changes);
      if (collection === FILES) for (const data of emptied.datas) addHash(contents, data);
      changes += emptied.changes;
      if (emptied.firstSeq !== null) firstSeq = Math.min(firstSeq ?? Infinity, emptied.firstSeq);
      if (changes >= most) break;
      done++;
      const stored = this.#tables.documents.get(number, id);
      const isInJournal = this.#tables.journal.isUnsettled(number, name);
      // It is older than the journal, so any backup may have it.
      if (stored && !isInJournal) firstSeq = 0;
      if (stored || isInJournal) doomed.push({ id, name, stored });
    }
    const applied = doomed.length === 0 ? undefined : this.#commit(collection, number, doomed, erasure, timeMs);
    if (collection === FILES) for (const { stored } of doomed) if (stored) addHash(contents, stored.data);
    const seq = applied?.seq ?? 0;
    this.#erasures.count(record.erasure, { documents: doomed.length, changes, firstSeq, seq }, place);
    const removed = [...contents].filter((sha256) => this.#tables.blobs.removeUnused(sha256));
    return { done, removed, ...(applied ? { applied } : {}) };
  }

  /** The commit that deletes the documents which exist, and says that all of them were erased. */
  #commit(
    collection: string,
    number: number,
    doomed: Doomed[],
    { author }: OpenErasure,
    timeMs: number,
  ): AppliedCommit {
    const { journal } = this.#tables;
    const seq = journal.seq + 1;
    journal.addCommit(seq, undefined, timeMs, author);
    const changes: DocumentChange[] = [];
    for (const { id, name, stored } of doomed) {
      journal.addErasure(seq, number, name);
      if (stored) changes.push(this.#remove(collection, number, id, stored, { seq, timeMs }));
    }
    const commit: Commit = {
      timeMs,
      author,
      writes: changes.map(({ id }) => ({ kind: 'delete', collection, id })),
    };
    const documents = changes.map(({ id }) => ({ collection, id, version: 0 }));
    return { seq, commit, changes, documents, warnings: [] };
  }

  #remove(
    collection: string,
    number: number,
    id: string,
    stored: StoredDocument,
    stamp: { seq: number; timeMs: number },
  ): DocumentChange {
    const { blobs, collections, documents, holds, indexes } = this.#tables;
    const before = readStored(stored);
    collections.count(collection, stamp.seq, stamp.timeMs, -1, -Buffer.byteLength(stored.data));
    documents.delete(number, id);
    indexes.update(number, before, undefined, stored.number);
    holds.note({ kind: 'delete', collection, id }, true);
    if (collection === FILES) blobs.count(before, undefined, stamp.timeMs);
    return { collection, id, before, after: undefined };
  }
}

/** What a document is called in the journal after it was erased. */
function nameOf(erasureId: string, { forgetsIds, documents }: OpenErasure, index: number, id: string): string {
  return forgetsIds ? `erased-${erasureId}-${documents + index + 1}` : id;
}

function addHash(contents: Set<string>, data: string): void {
  const hash = hashOf({ data: JSON.parse(data) as Record<string, never> });
  if (hash !== undefined) contents.add(hash);
}
