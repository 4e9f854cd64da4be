import { randomBytes } from 'node:crypto';
import { formatTime, splitAddress, type Author } from '@uproar/core';
import { problemError, type Erasure, type ErasureForm, type ErasurePreview } from '@uproar/protocol';
import { formatIdentity } from '../identity/identity.js';
import { listBackups, MOST_BACKUPS } from '../reading/backup-records.js';
import { prepareWireQuery } from '../reading/prepare-query.js';
import { eraseOutcomes, type Store } from '../store/index.js';

/** Documents, and changes of the journal, that one record erases. */
const DOCUMENTS_AT_ONCE = 200;
const CHANGES_AT_ONCE = 1000;

/** Changes of the journal that are read at a time to find documents that met a condition. */
const SEARCHED_AT_ONCE = 1000;

/** An erasure has at most so many documents. */
const MAX_DOCUMENTS = 1_000_000;

interface Row {
  id: string;
  time: number;
  author: string;
  collection: string;
  reason: string | null;
  forgetsIds: number;
  documents: number;
  changes: number;
  firstSeq: number | null;
  seq: number;
  place: number;
  isOpen: number;
}

const COLUMNS = `
  id, time, author, collection, reason, forgets_ids AS forgetsIds, documents, changes, first_seq AS firstSeq, seq, place,
  outcomes_upto IS NOT NULL AS isOpen`;
const LIST = `SELECT ${COLUMNS} FROM erasures ORDER BY time DESC LIMIT ?`;
const GET = `SELECT ${COLUMNS} FROM erasures WHERE id = ?`;
/** What erasures work with. */
export interface ErasureParts {
  store: Pick<Store, 'log' | 'reads' | 'reader' | 'journal' | 'collections' | 'documents' | 'rewrites'>;
  /** All nodes: their addresses, and up to which place of the log erasures have left nothing in their files. */
  nodes: () => { address: string; rewritten: number }[];
  /** Whether all nodes know how to erase. */
  isPossible: () => boolean;
}

/** Removes documents with their past. */
export class Erasures {
  readonly #parts: ErasureParts;

  constructor(parts: ErasureParts) {
    this.#parts = parts;
  }

  /** The newest erasures. */
  list(limit: number): Erasure[] {
    return this.#parts.store.reads
      .statement<[number], Row>(LIST)
      .all(limit)
      .map((row) => this.#describe(row));
  }

  /** @throws {ProblemError} `no-such-erasure` */
  get(id: string): Erasure {
    const row = this.#parts.store.reads.statement<[string], Row>(GET).get(id);
    if (row) return this.#describe(row);
    throw problemError('no-such-erasure', `There is no erasure "${id}". GET /v1/erasures lists them.`);
  }

  /** Counts what an erasure would erase. */
  async preview(form: ErasureForm): Promise<ErasurePreview> {
    const { present, earlier } = await this.#find(form, true);
    return { documents: present.length, earlier: earlier.length };
  }

  /**
   * Erases documents with their past. Resolves when nothing of them can be read any more; then the files of each node are
   * rewritten.
   *
   * @throws {ProblemError} `bad-query`, `no-such-document`, `nodes-too-old`, or `too-large` for too many documents
   */
  async erase(form: ErasureForm, author: Author): Promise<Erasure> {
    const { log, rewrites } = this.#parts.store;
    if (!this.#parts.isPossible()) {
      throw problemError('nodes-too-old', 'Upgrade all nodes first: some cannot erase yet.');
    }
    const { collection, present, earlier } = await this.#find(form, form.past);
    const ids = [...present, ...earlier];
    const id = randomBytes(9).toString('hex');
    const { reason, forgetIds: forgetsIds } = form;
    const why = reason === undefined ? {} : { reason };
    await log.propose({ kind: 'erasure-begun', timeMs: Date.now(), id, author, collection, forgetsIds, ...why });
    for (let at = 0; at < ids.length;) {
      const { done } = await log.propose({
        kind: 'documents-erased',
        timeMs: Date.now(),
        erasure: id,
        collection,
        ids: ids.slice(at, at + DOCUMENTS_AT_ONCE),
        changes: CHANGES_AT_ONCE,
      });
      at += done;
      // Other requests are served in between.
      await new Promise((resolve) => setImmediate(resolve));
    }
    while (await eraseOutcomes(log, id, collection)) await new Promise((resolve) => setImmediate(resolve));
    void rewrites.run();
    return this.get(id);
  }

  /** The ids of the documents that are meant: those that exist, and those that the journal alone knows. */
  async #find(form: ErasureForm, past: boolean): Promise<{ collection: string; present: string[]; earlier: string[] }> {
    const { store } = this.#parts;
    if (form.doc !== undefined) {
      const { collection, id } = splitAddress(form.doc);
      const number = store.collections.get(collection)?.number;
      if (number !== undefined && store.documents.get(number, id)) return { collection, present: [id], earlier: [] };
      const isKnown = number !== undefined && store.journal.ofDocument(number, id, { after: 0 }, 1).length > 0;
      if (isKnown) return { collection, present: [], earlier: [id] };
      const detail = `There is no document ${form.doc}, and the journal has nothing of it.`;
      throw problemError('no-such-document', detail, { document: form.doc });
    }
    const collection = form.collection!;
    const query = prepareWireQuery({ from: collection, where: form.where, limit: 'none' }, true);
    const present = new Set<string>();
    for await (const { stored } of store.reader.stream(query)) addTo(present, stored.id);
    const earlier = new Set<string>();
    const number = store.collections.get(collection)?.number;
    if (!past || number === undefined) return { collection, present: [...present], earlier: [] };
    const upTo = store.log.seq;
    for (let seq = store.journal.bounds().first - 1; seq < upTo;) {
      const found = store.journal.commitChanges({ collection: number }, seq, upTo, SEARCHED_AT_ONCE);
      for (const { id, before, after } of found.changes) {
        if (present.has(id) || earlier.has(id)) continue;
        const met = [before, after].some((document) => document && query.matches({ document }) === true);
        if (met) addTo(earlier, id);
      }
      seq = found.seq;
      await new Promise((resolve) => setImmediate(resolve));
    }
    return { collection, present: [...present], earlier: [...earlier] };
  }

  #describe(row: Row): Erasure {
    const { store, nodes } = this.#parts;
    const { id, time, author, collection, reason, forgetsIds, documents, changes, firstSeq, seq, place, isOpen } = row;
    const waiting = nodes().flatMap(({ address, rewritten }) => (rewritten < place ? [address] : []));
    const isHere = store.rewrites.place >= place;
    return {
      id,
      time: formatTime(time),
      identity: formatIdentity(JSON.parse(author) as Author),
      collection,
      documents,
      changes,
      seq,
      ...(reason === null ? {} : { reason }),
      forgetIds: forgetsIds === 1,
      state: isOpen ? 'erasing' : waiting.length > 0 ? 'rewriting' : 'done',
      waiting,
      ...(isHere || store.rewrites.reason === undefined ? {} : { problem: store.rewrites.reason }),
      backups: listBackups(store.reads, { from: firstSeq ?? seq, before: seq }, MOST_BACKUPS).reverse(),
    };
  }
}

function addTo(ids: Set<string>, id: string): void {
  ids.add(id);
  if (ids.size > MAX_DOCUMENTS) {
    throw problemError('too-large', `An erasure has at most ${MAX_DOCUMENTS} documents. Use a narrower condition.`);
  }
}
