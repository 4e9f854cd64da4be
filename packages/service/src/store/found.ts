import { formatTime, type Document, type JsonObject, type Query } from '@uproar/core';
import { parseStored, publicDocument, stringifyStored, type StoredContent } from './documents.js';
import type { Plan } from './plan.js';

/** A stored document as conditions see it: it is parsed, and its times are written out, only when a condition asks for them. */
export class Candidate implements Document {
  readonly id: string;
  readonly version: number;
  #data: JsonObject | undefined;
  constructor(readonly stored: StoredContent) {
    this.id = stored.id;
    this.version = stored.version;
  }

  get data(): JsonObject {
    return (this.#data ??= parseStored(this.stored.data));
  }

  get created(): string {
    return formatTime(this.stored.created);
  }

  get updated(): string {
    return formatTime(this.stored.updated);
  }

  get expires(): string | undefined {
    return this.stored.expires === null ? undefined : formatTime(this.stored.expires);
  }
}

/** A document that belongs to a query: as it is stored, and parsed on demand. */
export class Found {
  readonly stored: StoredContent;
  readonly #candidate: Candidate;
  #document: Document | undefined;
  /** The related documents, if the query has includes. */
  related: JsonObject | undefined;
  #text: string | undefined;
  constructor(candidate: Candidate) {
    this.#candidate = candidate;
    this.stored = candidate.stored;
  }

  get document(): Document {
    this.#document ??= publicDocument(this.stored, this.#candidate.data);
    return this.#document;
  }

  /** The document as a query shows it, as JSON text. */
  textFor(query: Query): string {
    if (this.#text === undefined) {
      const text = query.whole ? stringifyStored(this.stored) : JSON.stringify(query.show(this.document));
      this.#text = this.related ? `${text.slice(0, -1)},"related":${JSON.stringify(this.related)}}` : text;
    }
    return this.#text;
  }
}

/** The result of a query. */
export interface Reading {
  /** The state of the store that it shows. */
  seq: number;
  found: Found[];
  /** True when there are more than were wanted. */
  more: boolean;
  plan: Plan | undefined;
  /** How many documents were read for it. */
  documentsRead: number;
}

/** The cost of reading a query. A stream does not report how many documents were read. */
export interface ReadOutcome {
  plan: Plan | undefined;
  documentsRead: number | null;
  documentsReturned: number;
}

/** The limits of one query. */
export interface ReadLimits {
  /** Documents read. */
  documents?: number | undefined;
  /** Bytes of the result as JSON; a result that would take more ends before that, with more to come. */
  bytes?: number | undefined;
  /** True where a result that is cut for its bytes is of no use, and refused instead. */
  whole?: boolean | undefined;
  /** Steps that its conditions may take. */
  work?: number | undefined;
  /** For whom it is read; all that is read for one takes turns. */
  holder?: string | undefined;
  /** The identity whose usage it counts as. */
  identity?: string | undefined;
  /** Called with the bytes of each document of a result; can end the reading by an error. */
  onBytes?: ((bytes: number) => void) | undefined;
}
