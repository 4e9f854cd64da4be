/**
 * The client of Uproar, for Node.js.
 *
 * @packageDocumentation
 */
import { enableFullQueries } from '@uproar/core';
import { WebSocket } from 'ws';
import type { ConnectOptions } from './options.js';
import type { Schemas } from './schema/schema.js';
import type { OpenSocket, SocketLike } from './transport/socket.js';
import { Store } from './store.js';

export * from './api.js';
export { FileStorage } from './storage/file.js';

const openSocket: OpenSocket = (url) =>
  new WebSocket(url, { perMessageDeflate: false, maxPayload: 1024 * 1024 * 1024 }) as unknown as SocketLike;

/**
 * Connects to a store, with the WebSocket of `ws`. See {@link Store}.
 *
 * @param url its address; or those of several nodes, of which another is used when one is lost
 */
export function connect<Known extends Schemas = Record<never, never>>(
  url: string | readonly string[],
  options: ConnectOptions<Known> = {},
): Store<Known> {
  enableFullQueries();
  return new Store<Known>(url, { openSocket, ...options });
}
