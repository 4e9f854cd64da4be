import type { JsonObject } from '@uproar/core';
import { ProblemError } from '@uproar/protocol/problem-error';
import type { Store } from './store.js';
import type { TypedDocument } from './view.js';

/** How a file is uploaded. */
export interface UploadOptions {
  /** The id of the file; a generated one unless given. A file that is there gets other content. */
  id?: string;
  /** What it is called; the name of a `File` unless given. */
  name?: string;
  /** Its media type; that of the blob unless given. */
  type?: string;
  /** Fields of one's own for its description. */
  data?: JsonObject;
  /** Hears how many bytes have been sent, and of how many. */
  onProgress?: (sentBytes: number, totalBytes: number) => void;
  /** Breaks it off. */
  signal?: AbortSignal;
}

const loaded = () => import('./uproar-more.js');

/** The files of a store: documents of the collection `files` with content. */
export class Files {
  readonly #store: Store;
  readonly #headers: () => Promise<Record<string, string>>;

  /** For the store. */
  constructor(store: Store, headers: () => Promise<Record<string, string>>) {
    this.#store = store;
    this.#headers = headers;
  }

  /**
   * Uploads a file. Without a connection it waits for one, and what is cut off is sent again, for as long as this client lives.
   * The id is there at once; the promise resolves with the description.
   *
   * @throws {ProblemError} when it is refused
   */
  upload(content: Blob, options: UploadOptions = {}): Promise<TypedDocument> & { readonly id: string } {
    const id = options.id ?? this.#store.newId();
    const done = loaded().then(({ send }) => send(this.#store, this.#headers, ProblemError, id, content, options));
    return Object.assign(done, { id });
  }

  /**
   * An address of the content for what cannot send headers, such as `<img src>`: good for whoever has it until it expires, after
   * 5 minutes unless told otherwise.
   */
  async link(id: string, seconds?: number): Promise<string> {
    return (await loaded()).link(this.#store, id, seconds);
  }
}
