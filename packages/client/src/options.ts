import type { RefusedUpload } from './files/upload-options.js';
import type { Token } from './transport/link.js';
import type { OnRefused } from './outbox/outbox.js';
import type { Schemas, SchemaViolation } from './schema/schema.js';
import type { OpenSocket } from './transport/socket.js';
import type { ClientStorage } from './storage/storage.js';

/** How to connect. */
export interface ConnectOptions<Known extends Schemas = Schemas> {
  /** The schemas of collections: their documents are typed, and reported if they do not fit. */
  collections?: Known;
  /**
   * A key or token, or a function that returns one: it is called for each connection, and before the previous token
   * expires. If left out, the client is an anonymous caller, if the policy allows that.
   */
  token?: Token | undefined;
  /** The name of the device, such as `truck-7`, for administrators. It does not affect permissions. */
  device?: string | undefined;
  /** Where the outbox and copies of watches are kept; by default in memory. */
  storage?: ClientStorage;
  /**
   * Whether writes wait in the outbox without a connection, and show as pending; by default they do. If false, a write
   * fails when no answer arrives.
   */
  outbox?: boolean;
  /** Decides what becomes of a write that the store refuses. Without it, it is undone and its promise rejected. */
  onRefused?: OnRefused;
  /**
   * Called for files that an earlier client kept in the storage and that the store refused. By default, they are
   * written to the console.
   */
  onUploadRefused?: (refused: RefusedUpload) => void;
  /** Called for documents that violate the schema of their collection. By default, they are written to the console. */
  onViolation?: (violation: SchemaViolation) => void;
  /**
   * How to reach the store: over a WebSocket, over plain requests and event streams, or (`auto`) over a WebSocket, and
   * otherwise where those cannot pass.
   */
  transport?: 'auto' | 'socket' | 'http';
  /** Opens sockets in place of the browser's own or of `ws`. */
  openSocket?: OpenSocket;
  /** Waits before another try: the n-th failure in a row, from 0. In milliseconds. */
  backoffMs?: (failures: number) => number;
  /** How long a read may wait for a connection or an answer, in milliseconds; default 15 s. It waits longer while a large message arrives. */
  callTimeoutMs?: number;
  /** How long the service keeps a watch after its last user has closed it, in milliseconds; default 3 s. */
  graceMs?: number;
}
