import { formatAddress, type Adjustments, type JsonObject, type JsonPatch } from '@uproar/core';
import type { Receipt, WireCommit } from '@uproar/protocol';
import type { Collection, DocumentEnd } from './collection.js';
import { isProblem } from '../transport/problems.js';
import type { StoreAccess } from '../store-access.js';
import type { TypedDocument } from '../views/view.js';

/** How often a transaction is repeated before its conflict is passed on. */
const MAX_ATTEMPTS = 20;

/**
 * Reads and writes that belong together: the writes are done only if everything that was read is still as it was. Reads do
 * not see the writes.
 */
export class Transaction {
  readonly #store: StoreAccess;
  readonly #reads = new Map<string, number>();
  readonly #writes: WireCommit['writes'] = [];

  constructor(store: StoreAccess) {
    this.#store = store;
  }

  /** Reads a document; undefined if it does not exist. */
  async get<Data>(collection: Collection<Data>, id: string): Promise<TypedDocument<Data> | undefined> {
    const address = formatAddress(collection.name, id);
    const document = await collection.get(id).catch((error: unknown) => {
      // What may not be read is to the reader as if it were not there.
      if (isProblem(error, 'not-allowed')) return undefined;
      throw error;
    });
    const version = document?.version ?? 0;
    const known = this.#reads.get(address);
    if (known !== undefined && known !== version) throw new ReadAgain();
    this.#reads.set(address, version);
    return document;
  }

  /** Creates a document. Returns its id. */
  create<Data>(collection: Collection<Data>, data: Data, id = this.#store.newId(), end: DocumentEnd = {}): string {
    this.#writes.push({ create: collection.name, id, data: data as JsonObject, ...end });
    return id;
  }

  put<Data>(collection: Collection<Data>, id: string, data: Data, end: DocumentEnd = {}): void {
    this.#writes.push({ put: formatAddress(collection.name, id), data: data as JsonObject, ...end });
  }

  merge<Data>(
    collection: Collection<Data>,
    id: string,
    changes: Parameters<Collection<Data>['merge']>[1],
    end: DocumentEnd = {},
  ): void {
    this.#writes.push({ merge: formatAddress(collection.name, id), data: changes as JsonObject, ...end });
  }

  patch<Data>(collection: Collection<Data>, id: string, ops: JsonPatch): void {
    this.#writes.push({ patch: formatAddress(collection.name, id), ops });
  }

  adjust<Data>(collection: Collection<Data>, id: string, by: Adjustments): void {
    this.#writes.push({ adjust: formatAddress(collection.name, id), by });
  }

  delete<Data>(collection: Collection<Data>, id: string): void {
    this.#writes.push({ delete: formatAddress(collection.name, id) });
  }

  /** The collected writes and reads; undefined if nothing was written. For the store. */
  commit(): WireCommit | undefined {
    if (this.#writes.length === 0) return undefined;
    return { writes: this.#writes, reads: [...this.#reads].map(([doc, version]) => ({ doc, version })) };
  }
}

/** Something read twice was different the second time. */
class ReadAgain extends Error {}

/** Repeats `act` until the documents it read are unchanged when its writes arrive. */
export async function repeatUntilDone<Result>(
  store: StoreAccess,
  act: (transaction: Transaction) => Promise<Result> | Result,
): Promise<{ result: Result; receipt: Receipt | undefined }> {
  for (let attempt = 1; ; attempt++) {
    const transaction = new Transaction(store);
    try {
      const result = await act(transaction);
      const commit = transaction.commit();
      return { result, receipt: commit && (await store.commitOf(commit, attempt < MAX_ATTEMPTS)) };
    } catch (error) {
      const conflict =
        error instanceof ReadAgain || (isProblem(error, 'version-mismatch') && error.problem.read !== undefined);
      if (!conflict || attempt === MAX_ATTEMPTS) throw error;
      // Others who lost to the same winner wait for another while.
      await new Promise((resolve) => setTimeout(resolve, Math.random() * Math.min(200, 4 * 2 ** attempt)));
    }
  }
}
