import type { OpenSocket, SocketLike } from './transport/socket.js';
import { Store } from './store.js';
import type { ConnectOptions } from './options.js';
import type { Schemas } from './schema/schema.js';

const openSocket: OpenSocket = (url) => new WebSocket(url) as unknown as SocketLike;

/**
 * Connects to a store, with the browser's own WebSocket. See {@link Store}.
 *
 * @param url its address; or those of several nodes, of which another is used when one is lost
 */
export function connect<Known extends Schemas = Record<never, never>>(
  url: string | readonly string[],
  options: ConnectOptions<Known> = {},
): Store<Known> {
  return new Store<Known>(url, { openSocket, ...options });
}
