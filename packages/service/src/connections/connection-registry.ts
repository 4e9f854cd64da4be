import { randomBytes } from 'node:crypto';
import { formatTime } from '@uproar/core';
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
  /** Goes on as what the identity is now, or ends with the reason why it is nobody any more. */
  review(present: Identity | Problem): void;
  /** What those who administer the store see of it. */
  describe(): Omit<ConnectionInfo, 'id' | 'identity' | 'address' | 'since' | 'transport'>;
  /** Breaks the connection off. Whoever it was may connect again. */
  breakOff(): void;
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

/** How often it is looked whether somebody's token has expired. */
const EXPIRY_INTERVAL_MS = 250;

/** While connections are ended one after the other, some go as often as this. */
const DRAIN_STEP_MS = 50;

/** Reviewed in one go before others are served. */
const REVIEWED_AT_ONCE = 100;

/** Who is connected for longer than a request, so that what they see follows what they may see. */
export class ConnectionRegistry {
  readonly #identities: Identities;
  readonly limits: ConnectionLimits;
  readonly #present = new Map<LiveConnection, { id: string; sinceMs: number }>();
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
      this.#review([...this.#present.keys()].filter(({ identity }) => identity && concerns(identity))),
    );
    this.#timer = setInterval(() => this.#reviewExpired(), EXPIRY_INTERVAL_MS).unref();
  }

  get size(): number {
    return this.#present.size;
  }

  /**
   * Notes that somebody has come. Returns what notes that they have gone.
   *
   * @throws {ProblemError} `limit-reached` connections, or `stopping`
   */
  enter(presence: LiveConnection): () => void {
    if (this.#draining) throw problemError('stopping', 'The service is stopping. Connect again in a moment.');
    const { address } = presence;
    const fromThere = this.#perAddress.get(address) ?? 0;
    if (this.#present.size >= this.limits.total || fromThere >= this.limits.perAddress) {
      throw problemError(
        'limit-reached',
        `There are too many connections${fromThere > 0 ? ' from your address' : ''}. Close some.`,
      );
    }
    this.recognise(presence);
    this.#present.set(presence, { id: randomBytes(6).toString('hex'), sinceMs: Date.now() });
    this.#perAddress.set(address, fromThere + 1);
    return () => {
      if (!this.#present.delete(presence)) return;
      this.#toReview.delete(presence);
      count(this.#perAddress, address, -1);
      const name = this.#names.get(presence);
      if (name !== undefined) count(this.#perIdentity, name, -1);
    };
  }

  /**
   * Notes who somebody is, as soon as that is known.
   *
   * @throws {ProblemError} `limit-reached` when an identity has as many connections as it may have
   */
  recognise(presence: LiveConnection, identity = presence.identity): void {
    if (!identity || !isGoverned(identity) || identity.author.kind === 'anonymous') return;
    const name = formatIdentity(identity.author);
    const before = this.#names.get(presence);
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
    this.#names.set(presence, name);
  }

  /** All connections, as those see them who administer the store. */
  list(): ConnectionInfo[] {
    return [...this.#present].map(([presence, { id, sinceMs }]) => ({
      id,
      identity: presence.identity ? formatIdentity(presence.identity.author) : null,
      address: presence.address,
      since: formatTime(sinceMs),
      transport: presence.transport,
      ...presence.describe(),
    }));
  }

  /** How many connections there are of each kind. */
  byTransport(): Record<ConnectionInfo['transport'], number> {
    const counts = { socket: 0, stream: 0 };
    for (const { transport } of this.#present.keys()) counts[transport]++;
    return counts;
  }

  /**
   * Lets nobody in any more and ends all connections, spread evenly over a time, so that they do not all come back at the same
   * moment.
   */
  async drain(durationMs: number): Promise<void> {
    this.#draining = true;
    const problem = createProblem('stopping', 'The service is stopping. Connect again in a moment.');
    const [started, present] = [performance.now(), this.#present.size];
    for (;;) {
      const gone = durationMs === 0 ? 1 : Math.min(1, (performance.now() - started) / durationMs);
      const mayStay = Math.floor(present * (1 - gone));
      for (const presence of [...this.#present.keys()].slice(mayStay)) presence.end(problem);
      if (gone === 1) return;
      await new Promise((resolve) => setTimeout(resolve, DRAIN_STEP_MS));
    }
  }

  /** Breaks a connection off. Returns who it was; undefined when there is none with this id. */
  breakOff(id: string): string | undefined {
    for (const [presence, known] of this.#present) {
      if (known.id !== id) continue;
      presence.breakOff();
      return presence.identity ? formatIdentity(presence.identity.author) : 'unknown';
    }
    return undefined;
  }

  close(): void {
    clearInterval(this.#timer);
  }

  #reviewExpired(): void {
    const now = Date.now();
    const expired = [...this.#present.keys()].filter(
      ({ identity }) => identity?.expiresMs !== undefined && identity.expiresMs <= now,
    );
    if (expired.length > 0) this.#review(expired);
  }

  /** From this moment on nothing is shown by what held before, however long it takes to review everybody. */
  #review(presences: Iterable<LiveConnection>): void {
    for (const presence of presences) {
      if (!presence.identity) continue;
      presence.suspend();
      this.#toReview.add(presence);
    }
    this.#goOn();
  }

  #goOn(): void {
    let left = REVIEWED_AT_ONCE;
    for (const presence of this.#toReview) {
      if (left-- === 0) break;
      this.#toReview.delete(presence);
      if (presence.identity) presence.review(this.#presentOf(presence.identity));
    }
    if (this.#toReview.size === 0 || this.#scheduled) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      this.#goOn();
    });
  }

  #presentOf(identity: Identity): Identity | Problem {
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
