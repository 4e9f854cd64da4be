import type { LiveMethod, LiveParams, LiveResults, Receipt, WatchTarget, WireCommit } from '@uproar/protocol';
import type { JsonObject } from '@uproar/core';
import type { Presence } from './presence/presence-handle.js';
import type { SchemaViolation, SchemaCheck } from './schema/schema.js';
import type { ConnectionState } from './transport/link.js';
import type { Watch } from './views/watch.js';

/** What collections, files, transactions and the connection check use of a store. */
export interface StoreAccess {
  /** The address of the store, for example `http://127.0.0.1:4680`. */
  readonly url: string;
  readonly state: ConnectionState;
  /** Generates an id. Later ids sort behind earlier ones. */
  newId(): string;
  /** Resolves with the first answer of the service. */
  ready(): Promise<LiveResults['hello']>;
  /** Calls `subscriber` with the connection state, at once and after each change. Returns a stop function. */
  subscribe(subscriber: (state: ConnectionState) => void): () => void;
  /** Calls the service over the live connection. */
  call<Method extends LiveMethod>(method: Method, params: LiveParams[Method]): Promise<LiveResults[Method]>;
  /** Reads JSON over HTTP. */
  fetch<Result>(path: string): Promise<Result>;
  /** Sends JSON over HTTP and reads the JSON of the answer. */
  post<Result>(path: string, body: unknown): Promise<Result>;
  /** Opens a watch; `check` validates the documents it shows. */
  watch(target: WatchTarget, check?: SchemaCheck): Watch;
  /** Writes several documents, all or none. `retried`: the caller starts again after a conflict with a document it read. */
  commitOf(commit: WireCommit, retried: boolean): Promise<Receipt>;
  /** Writes a document that lives as long as the client is connected. */
  present(address: string, data: JsonObject): Promise<Presence>;
  /** Reports a document that violates the schema of its collection. */
  reportViolation(violation: SchemaViolation): void;
}
