import { ProblemError } from '@uproar/protocol/problem-error';
import type { KeptUpload } from '../storage/storage.js';
import type { TypedDocument } from '../views/view.js';
import type { FilesOptions, UploadOptions } from './upload-options.js';

const loaded = () => import('../deferred.js');

/** The files of a store: documents of the collection `files` with content. */
export class Files {
  readonly #options: FilesOptions;

  /** For the store. */
  constructor(options: Omit<FilesOptions, 'Refused' | 'waiting' | 'turns'>) {
    this.#options = { ...options, Refused: ProblemError, waiting: new Map(), turns: new Map() };
  }

  /**
   * Uploads a file. Without a connection it waits for one; an interrupted upload is sent again. The id is available at
   * once; the promise resolves with the description. If the client has a storage, a file of up to 100 MB is kept there
   * until it has arrived, and sent by the next client that opens the storage.
   *
   * @throws {ProblemError} when it is refused
   */
  upload(content: Blob, options: UploadOptions = {}): Promise<TypedDocument> & { readonly id: string } {
    const { store } = this.#options;
    const id = options.id ?? store.newId();
    // The order of the calls is that of the keys, whenever the rest has been loaded.
    const key = store.newId();
    const done = loaded().then(({ upload }) => upload(this.#options, key, id, content, options));
    return Object.assign(done, { id });
  }

  /** The files that have not arrived yet, those of earlier clients with the same storage included. */
  async pending(): Promise<KeptUpload[]> {
    return (await loaded()).pendingUploads(this.#options);
  }

  /** Sends what an earlier client has kept. For the store. */
  async resume(): Promise<void> {
    // Loaded during a connection, so that it is available without one.
    return (await loaded()).resumeUploads(this.#options);
  }

  /**
   * A link to the content for uses that cannot send headers, such as `<img src>`. Anyone who has it can read the
   * content until it expires, by default after 5 minutes.
   */
  async link(id: string, seconds?: number): Promise<string> {
    return (await loaded()).link(this.#options.store, id, seconds);
  }
}
