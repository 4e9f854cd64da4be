import { randomBytes } from 'node:crypto';
import type { Identity } from './identity.js';
import { PeerTickets, type Peers } from './peer-tickets.js';

/** How long a ticket can be used, in milliseconds. */
export const TICKET_MS = 30_000;

/** Tickets that may be open at a time; the oldest goes when there are more. */
const MAX_TICKETS = 100_000;

/**
 * Stand in for a key once, where a browser cannot send one in a header. They are in memory alone. In a cluster a ticket begins
 * with the name of its node, where any other node can redeem it.
 */
export class Tickets {
  readonly #open = new Map<string, { identity: Identity; expiresMs: number }>();
  readonly #node: string | undefined;
  readonly #peers: PeerTickets | undefined;

  /** @param peers the other nodes, in a cluster */
  constructor(peers?: Peers) {
    this.#node = peers?.node;
    this.#peers = peers && new PeerTickets(peers);
  }

  issue(identity: Identity, nowMs: number): { ticket: string; expiresMs: number } {
    for (const [ticket, { expiresMs }] of this.#open) {
      if (expiresMs > nowMs && this.#open.size < MAX_TICKETS) break;
      this.#open.delete(ticket);
    }
    const secret = randomBytes(24).toString('base64url');
    const ticket = this.#node === undefined ? secret : `${this.#node}.${secret}`;
    const expiresMs = nowMs + TICKET_MS;
    this.#open.set(ticket, { identity, expiresMs });
    return { ticket, expiresMs };
  }

  /** Whose ticket this is; it is used up then. Undefined when it is not good (any more). */
  async redeem(ticket: string, nowMs: number): Promise<Identity | undefined> {
    const node = ticket.slice(0, Math.max(0, ticket.indexOf('.')));
    if (this.#peers && node !== '' && node !== this.#node) return this.#peers.redeem(ticket, node);
    return this.redeemHere(ticket, nowMs);
  }

  /** The same, for a ticket of this node. */
  redeemHere(ticket: string, nowMs: number): Identity | undefined {
    const found = this.#open.get(ticket);
    this.#open.delete(ticket);
    return found && found.expiresMs > nowMs ? found.identity : undefined;
  }
}
