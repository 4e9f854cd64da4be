import { splitAddress } from '@uproar/core';
import { problemError, type LiveParams } from '@uproar/protocol';
import { formatIdentity, type Identity } from '../identity/identity.js';
import { readDocumentAt } from '../reading/read-document.js';
import { findSeenDocument } from '../reading/visible-document.js';
import type { Context } from '../requests/context.js';
import { readableAccess } from '../requests/identity-scope.js';
import { readListing } from '../requests/read-listing.js';

/** The maximum number of queries of one connection that run at the same time. */
const MAX_QUERIES = 4;

/** How long a sent result still counts as memory before it counts as unread bytes, in milliseconds. */
const RESULT_COUNTED_MS = 1000;

/** The parts of the service that reads use. */
type ReadParts = Pick<Context, 'bytes' | 'store' | 'usage'> &
  Parameters<typeof readableAccess>[0] &
  Parameters<typeof readListing>[0];

/** The calls `get` and `query` of one WebSocket connection. */
export class SocketReads {
  readonly #context: ReadParts;
  readonly #onEnded: () => void;
  /** The number of running queries. */
  #queries = 0;

  /** @param onEnded called after each query */
  constructor(context: ReadParts, onEnded: () => void) {
    this.#context = context;
    this.#onEnded = onEnded;
  }

  /** Whether further calls must wait until a query has ended. */
  get full(): boolean {
    return this.#queries >= MAX_QUERIES;
  }

  /**
   * Reads a document, as JSON text.
   *
   * @throws {ProblemError} `no-such-document`, or `not-allowed`
   */
  get({ doc, at }: LiveParams['get'], identity: Identity): string {
    const { collection, id } = splitAddress(doc);
    const { store, usage } = this.#context;
    const access = readableAccess(this.#context, identity, collection);
    const text =
      at === undefined
        ? findSeenDocument(store, access, collection, id)
        : JSON.stringify(readDocumentAt(store, access, collection, id, at));
    if (text === undefined)
      throw problemError('no-such-document', `The document ${doc} does not exist.`, { document: doc });
    const counter = usage.counterFor(formatIdentity(identity.author), collection);
    counter.request(Buffer.byteLength(text));
    counter.read(1, 1);
    return text;
  }

  /**
   * Answers a query with a page of its result, as JSON text.
   *
   * @param holder the identity or address that the memory of the result is counted for
   * @throws {ProblemError} `bad-query`, `not-allowed`, or `budget-exceeded`
   */
  async query(form: LiveParams['query'], identity: Identity, holder: string): Promise<string> {
    const { bytes, usage } = this.#context;
    bytes.check(holder);
    const lease = bytes.open(holder);
    this.#queries++;
    try {
      const counter = usage.counterFor(formatIdentity(identity.author), form.from);
      const { text } = await readListing(this.#context, identity, form, holder, lease);
      counter.request(Buffer.byteLength(text));
      return text;
    } finally {
      this.#queries--;
      setTimeout(() => lease.release(), RESULT_COUNTED_MS).unref();
      this.#onEnded();
    }
  }
}
