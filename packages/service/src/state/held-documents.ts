import { formatAddress, parseTime, withoutFields, type Document, type Paths } from '@uproar/core';
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

/** After commits have used documents of this many bytes, documents that were not among them are dropped. */
const GENERATION_BYTES = 8 * 1024 * 1024;

/** The approximate memory of a document in bytes: a fixed part, and its data as text and as objects. */
const sizeOf = ({ sizeBytes }: Held) => 500 + 3 * sizeBytes;

/**
 * A cache of the documents that commits have used recently, as they are in the store. It holds two generations of
 * documents at most.
 */
export class HeldDocuments {
  #recent = new Map<string, Held>();
  #earlier = new Map<string, Held>();
  #recentBytes = 0;

  constructor(
    readonly collections: CollectionTable,
    readonly documents: DocumentTable,
  ) {}

  get(collection: string, id: string): Held | undefined {
    const address = formatAddress(collection, id);
    const recent = this.#recent.get(address);
    if (recent) return recent;
    const found = this.#earlier.get(address) ?? this.#read(collection, id);
    if (found) this.set(address, found);
    return found;
  }

  /** Notes the state of a document after a commit. */
  set(address: string, held: Held): void {
    const replaced = this.#recent.get(address);
    if (replaced) this.#recentBytes -= sizeOf(replaced);
    this.#recent.set(address, held);
    this.#recentBytes += sizeOf(held);
    if (this.#recentBytes < GENERATION_BYTES) return;
    [this.#earlier, this.#recent, this.#recentBytes] = [this.#recent, new Map(), 0];
  }

  /** Drops a document. Call it after a commit that deleted the document, or whose documents are not cached. */
  drop(address: string): void {
    const held = this.#recent.get(address);
    if (held) this.#recentBytes -= sizeOf(held);
    this.#recent.delete(address);
    this.#earlier.delete(address);
  }

  /** Drops all documents. Needed when something other than a commit has changed the store, and after a rollback. */
  clear(): void {
    [this.#earlier, this.#recent, this.#recentBytes] = [new Map(), new Map(), 0];
  }

  #read(collection: string, id: string): Held | undefined {
    const info = this.collections.get(collection);
    const stored = info && this.documents.get(info.number, id);
    return stored && { stored, document: readStored(stored), sizeBytes: Buffer.byteLength(stored.data) };
  }
}

/** A document as it will be stored. */
export function hold(document: Document, before: Held | undefined, timeMs: number): Held {
  const data = JSON.stringify(document.data);
  return {
    // A new document gets its number when it is written.
    stored: {
      number: before?.stored.number ?? 0,
      id: document.id,
      version: document.version,
      created: before?.stored.created ?? timeMs,
      updated: timeMs,
      expires: document.expires === undefined ? null : parseTime(document.expires),
      data,
    },
    document,
    sizeBytes: Buffer.byteLength(data),
  };
}

/** The size of what the writer sees of a document, so that it does not reveal the size of concealed fields. */
export function visibleSize({ document, sizeBytes }: Held, conceal: Paths): number {
  const { data } = withoutFields(document, conceal);
  return data === document.data ? sizeBytes : Buffer.byteLength(JSON.stringify(data));
}
