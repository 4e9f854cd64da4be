import { formatAddress, formatTime, parseTime, withoutFields, type Document, type Paths } from '@uproar/core';
import type { CollectionTable } from './collection-table.js';
import type { DocumentTable } from './document-table.js';
import { readStored, type StoredDocument } from './stored-document.js';

/** A stored document, parsed. */
export interface Held {
  stored: StoredDocument;
  document: Document;
  /** The size of its data as JSON, in bytes. */
  sizeBytes: number;
}

/** The documents that a batch of commits touches. Each is read once, however many commits touch it. */
export class HeldDocuments {
  readonly #byAddress = new Map<string, Held | undefined>();

  constructor(
    readonly collections: CollectionTable,
    readonly documents: DocumentTable,
  ) {}

  get(collection: string, id: string): Held | undefined {
    const address = formatAddress(collection, id);
    if (this.#byAddress.has(address)) return this.#byAddress.get(address);
    const info = this.collections.get(collection);
    const stored = info && this.documents.get(info.number, id);
    const found = stored && {
      stored,
      document: readStored(stored),
      sizeBytes: Buffer.byteLength(stored.data),
    };
    this.#byAddress.set(address, found);
    return found;
  }

  /** Notes the state of a document after a commit. */
  set(address: string, held: Held | undefined): void {
    this.#byAddress.set(address, held);
  }
}

/** A document as it will be stored. */
export function hold(document: Document, before: Held | undefined, timeMs: number): Held {
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
      expires: document.expires === undefined ? null : parseTime(document.expires),
      data,
    },
    document: { ...document, created: formatTime(created) },
    sizeBytes: Buffer.byteLength(data),
  };
}

/** The size of what the writer sees of a document, so that it does not reveal the size of concealed fields. */
export function visibleSize({ document, sizeBytes }: Held, conceal: Paths): number {
  const { data } = withoutFields(document, conceal);
  return data === document.data ? sizeBytes : Buffer.byteLength(JSON.stringify(data));
}
