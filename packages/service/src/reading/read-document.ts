import { formatAddress, sees, withoutFields, type Access, type Document } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { findStored, readStored, type Store } from '../store/index.js';

/**
 * Reads a document at an earlier seq, as a caller sees it.
 *
 * @throws {ProblemError} `seq-ahead`, `journal-truncated`, `erased`, or `no-such-document`
 */
export function readDocumentAt(store: Store, access: Access, collection: string, id: string, seq: number): Document {
  if (seq > store.log.seq) {
    throw problemError('seq-ahead', `The store is at seq ${store.log.seq}; seq ${seq} does not exist yet.`, {
      parameter: 'at',
    });
  }
  if (!store.journal.reachesBackTo(seq)) {
    throw problemError(
      'journal-truncated',
      `The journal starts after seq ${store.journal.bounds().first - 1}; the state at ${seq} is no longer available.`,
      { parameter: 'at' },
    );
  }
  const info = store.collections.get(collection);
  if (info && store.journal.isErasedAt(seq, info.number, collection, id)) {
    const address = formatAddress(collection, id);
    throw problemError('erased', `The store no longer has the state of ${address} at seq ${seq}.`, {
      document: address,
    });
  }
  const document =
    info &&
    store.journal.documentAt(info.number, id, seq, () => {
      const stored = findStored(store, collection, id);
      return stored && readStored(stored);
    });
  if (document && sees(access, document)) return withoutFields(document, access.conceal);
  const address = formatAddress(collection, id);
  throw problemError('no-such-document', `There was no document ${address} at seq ${seq}.`, { document: address });
}
