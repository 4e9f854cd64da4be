import { SocketLink, defaultBackoffMs } from './socket-link.js';
import { DeferredLink } from './deferred-link.js';
import type { HttpRequests } from './http-requests.js';
import type { Link, LinkListener } from './link.js';
import type { ConnectOptions } from '../options.js';
import type { OpenSocket } from './socket.js';

/** Sockets that never opened, after which it is looked whether plain requests pass. */
const SOCKET_ATTEMPTS = 2;

/** What a transport needs. */
export interface TransportOptions {
  /** Where the store is now. */
  url: () => string;
  options: ConnectOptions & { openSocket: OpenSocket };
  requests: HttpRequests;
  /** Makes a plain request; rejects where those do not pass either. */
  tryRequest: () => Promise<unknown>;
  /** Makes a request whose answer may not be read; rejects where nothing answers at all. */
  probe: () => Promise<unknown>;
  /** Not called before the constructor has returned. */
  listener: LinkListener;
}

/** Selects the transport: a WebSocket, or requests and event streams where a network blocks WebSockets. */
export class TransportSelection {
  readonly #given: TransportOptions;
  #link: Link;

  constructor(given: TransportOptions) {
    this.#given = given;
    this.#link = given.options.transport === 'http' ? this.#openHttp() : this.#openSocket();
  }

  /** The link that is in use; it may be another one later. */
  get link(): Link {
    return this.#link;
  }

  get isHttp(): boolean {
    return this.#link instanceof DeferredLink;
  }

  #openSocket(): Link {
    const { url, options } = this.#given;
    let failures = 0;
    // Undefined during the first attempt, which fails at once if the constructor of the WebSocket throws.
    let connection: SocketLink | undefined = undefined;
    connection = this.#open((listener) => {
      const noticed: LinkListener = {
        ...listener,
        stateChanged: (state) => {
          listener.stateChanged(state);
          if (state.name !== 'offline' || connection?.everOpened) return;
          if (++failures >= SOCKET_ATTEMPTS && connection) void this.#tryHttp(connection);
        },
      };
      return new SocketLink({ ...options, url: () => `${url().replace(/^http/, 'ws')}/v1/live` }, noticed);
    });
    return connection;
  }

  #openHttp(): Link {
    const { requests, options } = this.#given;
    const { backoffMs = defaultBackoffMs } = options;
    const load = async () => (await import('../deferred.js')).HttpLink;
    return this.#open(
      (listener) => new DeferredLink(async (to) => new (await load())({ requests, backoffMs }, to), listener),
    );
  }

  /** Opens a link. Its events are ignored before it is in use, and after another one has replaced it. */
  #open<Kind extends Link>(open: (listener: LinkListener) => Kind): Kind {
    const { listener } = this.#given;
    const current = () => link !== undefined && link === this.#link;
    let link: Kind | undefined = undefined;
    link = open({
      stateChanged: (state) => {
        if (current()) listener.stateChanged(state);
      },
      notified: (name, params) => {
        if (current()) listener.notified(name, params);
      },
    });
    return link;
  }

  /** Goes by plain requests where WebSockets cannot pass, but those can. */
  async #tryHttp(socket: SocketLink): Promise<void> {
    const { options, tryRequest } = this.#given;
    if ((options.transport ?? 'auto') !== 'auto') return;
    try {
      await tryRequest();
    } catch {
      return this.#explainOrigin(socket);
    }
    if (this.#link !== socket || socket.everOpened) return;
    this.#link = this.#openHttp();
    socket.close();
  }

  /** In a page of another origin it may be that the store answers, but does not let the page read that. */
  async #explainOrigin(socket: SocketLink): Promise<void> {
    const { url, probe } = this.#given;
    const { findOriginRefused } = await import('../deferred.js');
    const problem = await findOriginRefused(url(), probe);
    if (problem && this.#link === socket && !socket.everOpened) socket.refuse(problem);
  }
}
