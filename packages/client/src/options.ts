import type { RefusedUpload } from './files/upload-options.js';
import type { Token } from './transport/link.js';
import type { OnRefused } from './outbox/outbox.js';
import type { SchemaViolation } from './schema/schema.js';
import type { OpenSocket } from './transport/socket.js';
import type { ClientStorage } from './storage/storage.js';

/** How to connect. */
export interface ConnectOptions {
  /**
   * A key or token, or what gets one: it is asked whenever a connection is made, and before the token it gave last expires.
   * Left out, one takes part as nobody in particular, where the policy lets one.
   */
  token?: Token | undefined;
  /** What the device is called, such as `truck-7`, for those who look after the store. It says nothing of what it may do. */
  device?: string | undefined;
  /** Where the outbox and copies of what was watched are kept; in memory unless told otherwise. */
  storage?: ClientStorage;
  /**
   * Whether writes wait in the outbox while there is no connection, and show as pending. Unless told otherwise they do; where
   * false, a write fails when no answer comes.
   */
  outbox?: boolean;
  /** Decides what becomes of a write that the store refuses. Without it, it is undone and its promise rejected. */
  onRefused?: OnRefused;
  /** Hears of files that an earlier client kept in the storage and that the store refused. Without it they are written to the console. */
  onUploadRefused?: (refused: RefusedUpload) => void;
  /** Hears of documents that do not fit the schema of their collection. Without it they are written to the console. */
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
  /** How long a read may wait for a connection or an answer, in milliseconds; 15 s unless told otherwise. */
  callTimeoutMs?: number;
  /** How long the service goes on with a watch after its last user has closed it, in milliseconds; 3 s unless told otherwise. */
  graceMs?: number;
}
