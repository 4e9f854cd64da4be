import type { ConnectionOptions } from './connection.js';
import type { OpenSocket } from './socket.js';

/** How to connect. `token` is a key of the store. */
export type ConnectOptions = Omit<ConnectionOptions, 'url' | 'openSocket'> & { openSocket?: OpenSocket };
