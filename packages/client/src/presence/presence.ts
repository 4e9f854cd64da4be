import { deepEqual, type JsonObject } from '@uproar/core';
import type { WireCommit } from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-error';
import type { StoreAccess } from '../store-access.js';
import type { Presence } from './presence-handle.js';
import { isProblem } from '../transport/problems.js';

/** Without a lasting connection, the document gets this end, again and again, in seconds. */
const TTL_S = 30;

/**
 * Writes a document that lives as long as this client is connected, and writes it again after each reconnect.
 *
 * @returns once the store has taken it
 * @throws {ProblemError} when the store refuses it
 */
export async function present(store: StoreAccess, address: string, data: JsonObject): Promise<Presence<JsonObject>> {
  const presence = new HeldDocument(store, address, data);
  await presence.begin();
  return presence;
}

class HeldDocument implements Presence {
  readonly address: string;
  refused: ProblemError | undefined;
  readonly #store: StoreAccess;
  #data: JsonObject;
  #ended = false;
  /** Whether the connection cannot hold documents, so that they get an end instead. */
  #byTime = false;
  #timer: ReturnType<typeof setInterval> | undefined;
  #stop: () => void = () => undefined;

  constructor(store: StoreAccess, address: string, data: JsonObject) {
    this.#store = store;
    this.address = address;
    this.#data = data;
  }

  /** Resolves when the document was taken for the first time. */
  begin(): Promise<void> {
    return new Promise((resolve, reject) => {
      this.#stop = this.#store.subscribe(({ name }) => {
        if (name === 'closed') return this.#end();
        if (name !== 'online' || this.#ended) return;
        this.#write().then(resolve, (error: unknown) => {
          // Another try follows with the next connection.
          if (!(error instanceof ProblemError)) return;
          this.refused = error;
          this.#end();
          reject(error);
        });
      });
    });
  }

  async update(data: JsonObject): Promise<void> {
    if (this.#ended || deepEqual(data, this.#data)) return;
    this.#data = data;
    if (this.#store.state.name === 'online') await this.#write();
  }

  async leave(): Promise<void> {
    if (this.#ended) return;
    this.#end();
    const { address } = this;
    const leaving = this.#byTime
      ? this.#store.call('commit', { writes: [{ delete: address }] })
      : this.#store.call('release', { doc: address });
    // Without a connection, the store notices by itself.
    await leaving.catch(() => undefined);
  }

  async #write(): Promise<void> {
    try {
      await this.#send(this.#byTime ? { ttl: TTL_S } : { whileConnected: true });
    } catch (error) {
      if (this.#byTime || !isProblem(error, 'bad-request')) throw error;
      this.#byTime = true;
      this.#timer = setInterval(() => void this.#write().catch(() => undefined), (TTL_S * 1000) / 2);
      await this.#write();
    }
  }

  async #send(end: { ttl: number } | { whileConnected: true }): Promise<void> {
    const write: WireCommit['writes'][number] = { put: this.address, data: this.#data, ...end };
    await this.#store.call('commit', { writes: [write] });
  }

  #end(): void {
    this.#ended = true;
    clearInterval(this.#timer);
    this.#stop();
  }
}
