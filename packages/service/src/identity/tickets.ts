import { randomBytes } from 'node:crypto';
import type { Identity } from './identity.js';

/** How long a ticket can be used, in milliseconds. */
export const TICKET_MS = 30_000;

/** Tickets that may be open at a time; the oldest goes when there are more. */
const MAX_TICKETS = 100_000;

/** Stand in for a key once, where a browser cannot send one in a header. They are in memory alone. */
export class Tickets {
  readonly #open = new Map<string, { identity: Identity; expiresMs: number }>();

  issue(identity: Identity, nowMs: number): { ticket: string; expiresMs: number } {
    for (const [ticket, { expiresMs }] of this.#open) {
      if (expiresMs > nowMs && this.#open.size < MAX_TICKETS) break;
      this.#open.delete(ticket);
    }
    const ticket = randomBytes(24).toString('base64url');
    const expiresMs = nowMs + TICKET_MS;
    this.#open.set(ticket, { identity, expiresMs });
    return { ticket, expiresMs };
  }

  /** Whose ticket this is; it is used up then. Undefined when it is not good (any more). */
  redeem(ticket: string, nowMs: number): Identity | undefined {
    const found = this.#open.get(ticket);
    this.#open.delete(ticket);
    return found && found.expiresMs > nowMs ? found.identity : undefined;
  }
}
