import type { IDBPDatabase } from 'idb';
import type { ClientStorage, KeptUpload, OutboxEntry, OutboxMessage, SharedOutbox, StoredView } from './storage.js';

/**
 * Keeps the outbox and copies of watches in IndexedDB. Tabs of one origin that use the same name share it: one of them
 * sends (Web Locks), all of them show the pending writes.
 */
export class IndexedDbStorage implements ClientStorage {
  readonly #name: string;
  readonly #database: Promise<IDBPDatabase>;
  readonly #channel: BroadcastChannel;
  #release: () => void = () => undefined;
  #closed = false;

  /** @param name a separate name for each store and user, for example `festival/crew-4` */
  constructor(name: string) {
    this.#name = `uproar/${name}`;
    this.#database = import('../deferred.js').then(({ openDB }) =>
      openDB(this.#name, 2, {
        upgrade(database, from) {
          for (const name of ['outbox', 'views', 'uploads'].slice(from && 2)) database.createObjectStore(name);
        },
      }),
    );
    this.#channel = new BroadcastChannel(this.#name);
  }

  async entries(): Promise<OutboxEntry[]> {
    return (await this.#database).getAll('outbox') as Promise<OutboxEntry[]>;
  }

  async putEntry(entry: OutboxEntry): Promise<void> {
    // Ids are UUIDs of version 7, so the order of keys is that of their making.
    await (await this.#database).put('outbox', entry, entry.commit.id);
  }

  async removeEntry(id: string): Promise<void> {
    await (await this.#database).delete('outbox', id);
  }

  async view(key: string): Promise<StoredView | undefined> {
    return (await this.#database).get('views', key) as Promise<StoredView | undefined>;
  }

  async putView(key: string, view: StoredView): Promise<void> {
    await (await this.#database).put('views', view, key);
  }

  async uploads(): Promise<KeptUpload[]> {
    return (await this.#database).getAll('uploads') as Promise<KeptUpload[]>;
  }

  async putUpload(upload: KeptUpload): Promise<void> {
    await (await this.#database).put('uploads', upload, upload.key);
  }

  async removeUpload(key: string): Promise<void> {
    await (await this.#database).delete('uploads', key);
  }

  async alone(name: string, act: () => Promise<void>): Promise<void> {
    await navigator.locks.request(`${this.#name}/${name}`, act);
  }

  share({ lead, heard }: SharedOutbox): void {
    this.#channel.onmessage = ({ data }) => heard(data as OutboxMessage);
    void navigator.locks.request(this.#name, () => {
      if (this.#closed) return;
      const done = new Promise<void>((resolve) => (this.#release = resolve));
      lead(done);
      return done;
    });
  }

  announce(message: OutboxMessage): void {
    if (!this.#closed) this.#channel.postMessage(message);
  }

  async close(): Promise<void> {
    this.#closed = true;
    this.#release();
    this.#channel.close();
    (await this.#database).close();
  }
}
