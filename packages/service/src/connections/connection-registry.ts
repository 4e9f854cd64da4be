import { randomBytes } from 'node:crypto';
import { accessFor, formatTime, splitAddress, type Policy } from '@uproar/core';
import { createProblem, problemError, ProblemError, type ConnectionInfo, type Problem } from '@uproar/protocol';
import type { Identities } from '../identity/identities.js';
import { formatIdentity, isGoverned, type Identity } from '../identity/identity.js';

/** A connection that stays open, and shows what its identity may see. */
export interface LiveConnection {
  readonly identity: Identity | undefined;
  readonly address: string;
  readonly transport: ConnectionInfo['transport'];
  /** Shows nothing more until it has been reviewed. */
  suspend(): void;
  /** Applies the present rights of the identity, or ends the connection with the problem. */
  review(present: Identity | Problem): void;
  /** What administrators see of the connection. */
  describe(): Omit<ConnectionInfo, 'id' | 'identity' | 'address' | 'since' | 'transport'>;
  /** Closes the connection. The client may connect again. */
  disconnect(): void;
  /** Ends it with a problem that says why. */
  end(problem: Problem): void;
}

/** How many connections there may be. */
export interface ConnectionLimits {
  total: number;
  perAddress: number;
  /** For identities that the policy governs; keys may have as many as there may be. */
  perIdentity: number;
}

export const DEFAULT_CONNECTION_LIMITS: ConnectionLimits = { total: 20_000, perAddress: 5000, perIdentity: 200 };

/** How often connections are checked for expired tokens. */
const EXPIRY_INTERVAL_MS = 250;

/** While connections are ended one after the other, some go as often as this. */
const DRAIN_STEP_MS = 50;

/** Connections reviewed at once before other requests are served. */
const REVIEWED_AT_ONCE = 100;

/** The open live connections. They are reviewed when permissions change. */
export class ConnectionRegistry {
  readonly #identities: Identities;
  readonly limits: ConnectionLimits;
  readonly #connections = new Map<LiveConnection, { id: string; sinceMs: number }>();
  readonly #perAddress = new Map<string, number>();
  readonly #perIdentity = new Map<string, number>();
  readonly #names = new WeakMap<LiveConnection, string>();
  readonly #toReview = new Set<LiveConnection>();
  readonly #timer: NodeJS.Timeout;
  #scheduled = false;
  #draining = false;

  constructor(identities: Identities, limits: Partial<ConnectionLimits> = {}) {
    this.#identities = identities;
    this.limits = { ...DEFAULT_CONNECTION_LIMITS, ...limits };
    identities.onChanged((concerns) =>
      this.#review([...this.#connections.keys()].filter(({ identity }) => identity && concerns(identity))),
    );
    this.#timer = setInterval(() => this.#reviewExpired(), EXPIRY_INTERVAL_MS).unref();
  }

  get size(): number {
    return this.#connections.size;
  }

  /**
   * Registers a connection. Returns a function that removes it.
   *
   * @throws {ProblemError} `limit-reached` for too many connections, or `stopping`
   */
  enter(connection: LiveConnection): () => void {
    if (this.#draining) throw problemError('stopping', 'The service is stopping. Connect again in a moment.');
    const { address } = connection;
    const fromThere = this.#perAddress.get(address) ?? 0;
    if (this.#connections.size >= this.limits.total || fromThere >= this.limits.perAddress) {
      throw problemError(
        'limit-reached',
        `There are too many connections${fromThere > 0 ? ' from your address' : ''}. Close some.`,
      );
    }
    this.updateIdentity(connection);
    this.#connections.set(connection, { id: randomBytes(6).toString('hex'), sinceMs: Date.now() });
    this.#perAddress.set(address, fromThere + 1);
    return () => {
      if (!this.#connections.delete(connection)) return;
      this.#toReview.delete(connection);
      count(this.#perAddress, address, -1);
      const name = this.#names.get(connection);
      if (name !== undefined) count(this.#perIdentity, name, -1);
    };
  }

  /**
   * Sets the identity of a connection, as soon as it is known.
   *
   * @throws {ProblemError} `limit-reached` when the identity has too many connections
   */
  updateIdentity(connection: LiveConnection, identity = connection.identity): void {
    if (!identity || !isGoverned(identity) || identity.author.kind === 'anonymous') return;
    const name = formatIdentity(identity.author);
    const before = this.#names.get(connection);
    if (name === before) return;
    const open = this.#perIdentity.get(name) ?? 0;
    if (open >= this.limits.perIdentity) {
      throw problemError(
        'limit-reached',
        `You have ${open} connections open; at most ${this.limits.perIdentity} are allowed.`,
      );
    }
    if (before !== undefined) count(this.#perIdentity, before, -1);
    count(this.#perIdentity, name, 1);
    this.#names.set(connection, name);
  }

  /** All connections, as those see them who administer the store. */
  list(): ConnectionInfo[] {
    return [...this.#connections].map(([connection, { id, sinceMs }]) => ({
      id,
      identity: connection.identity ? formatIdentity(connection.identity.author) : null,
      address: connection.address,
      since: formatTime(sinceMs),
      transport: connection.transport,
      ...connection.describe(),
    }));
  }

  /** How many watches read a collection that their identity may not read by another policy. */
  countLosing(policy: Policy): number {
    let losing = 0;
    for (const connection of this.#connections.keys()) {
      const { identity } = connection;
      if (!identity || !isGoverned(identity)) continue;
      for (const { query, doc } of connection.describe().watches) {
        const collection = query?.from ?? (doc === undefined ? undefined : splitAddress(doc).collection);
        if (collection === undefined) continue;
        const mayRead = (which: Policy) => accessFor(which, identity.rights, collection).read !== false;
        if (mayRead(this.#identities.policy) && !mayRead(policy)) losing++;
      }
    }
    return losing;
  }

  /** How many connections there are of each kind. */
  byTransport(): Record<ConnectionInfo['transport'], number> {
    const counts = { socket: 0, stream: 0 };
    for (const { transport } of this.#connections.keys()) counts[transport]++;
    return counts;
  }

  /**
   * Refuses new connections and closes all open ones, spread evenly over a time, so that clients do not all reconnect
   * at the same moment.
   */
  async drain(durationMs: number): Promise<void> {
    this.#draining = true;
    const problem = createProblem('stopping', 'The service is stopping. Connect again in a moment.');
    const [started, present] = [performance.now(), this.#connections.size];
    for (;;) {
      const gone = durationMs === 0 ? 1 : Math.min(1, (performance.now() - started) / durationMs);
      const mayStay = Math.floor(present * (1 - gone));
      for (const connection of [...this.#connections.keys()].slice(mayStay)) connection.end(problem);
      if (gone === 1) return;
      await new Promise((resolve) => setTimeout(resolve, DRAIN_STEP_MS));
    }
  }

  /** Closes a connection. Returns its description; undefined if there is none with this id. */
  disconnect(id: string): string | undefined {
    for (const [connection, known] of this.#connections) {
      if (known.id !== id) continue;
      connection.disconnect();
      return connection.identity ? formatIdentity(connection.identity.author) : 'unknown';
    }
    return undefined;
  }

  close(): void {
    clearInterval(this.#timer);
  }

  #reviewExpired(): void {
    const now = Date.now();
    const expired = [...this.#connections.keys()].filter(
      ({ identity }) => identity?.expiresMs !== undefined && identity.expiresMs <= now,
    );
    if (expired.length > 0) this.#review(expired);
  }

  /** From this moment on, nothing is sent under the previous permissions, however long the review takes. */
  #review(connections: Iterable<LiveConnection>): void {
    for (const connection of connections) {
      if (!connection.identity) continue;
      connection.suspend();
      this.#toReview.add(connection);
    }
    this.#resume();
  }

  #resume(): void {
    let left = REVIEWED_AT_ONCE;
    for (const connection of this.#toReview) {
      if (left-- === 0) break;
      this.#toReview.delete(connection);
      if (connection.identity) connection.review(this.#currentIdentity(connection.identity));
    }
    if (this.#toReview.size === 0 || this.#scheduled) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      this.#resume();
    });
  }

  #currentIdentity(identity: Identity): Identity | Problem {
    try {
      return this.#identities.present(identity);
    } catch (error) {
      if (error instanceof ProblemError) return error.problem;
      return createProblem('internal', 'The service failed to authenticate the connection.');
    }
  }
}

function count(counts: Map<string, number>, name: string, by: number): void {
  const now = (counts.get(name) ?? 0) + by;
  if (now > 0) counts.set(name, now);
  else counts.delete(name);
}
