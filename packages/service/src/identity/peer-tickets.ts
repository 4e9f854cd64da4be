import { problemError } from '@uproar/protocol';
import type { Identity } from './identity.js';

/** How long another node may take to answer, in milliseconds. */
const ANSWER_MS = 2000;

/** Where a node redeems its tickets for others. */
export const PEER_TICKETS_PATH = '/v1/cluster/tickets';

/** The other nodes of a cluster. */
export interface Peers {
  /** The name of this node. */
  node: string;
  /** The address of a node that is running. */
  addressOf(node: string): string | undefined;
  /** What nodes authenticate with. */
  secret: string;
}

/** Redeems tickets that another node of the cluster has issued: each is in the memory of its node, and good once. */
export class PeerTickets {
  constructor(private readonly peers: Peers) {}

  /** Whose ticket it is; undefined when it is not good (any more), or its node is not running. */
  async redeem(ticket: string, node: string): Promise<Identity | undefined> {
    const address = this.peers.addressOf(node);
    if (address === undefined) return undefined;
    try {
      const response = await fetch(new URL(PEER_TICKETS_PATH, address), {
        method: 'POST',
        headers: { authorization: `Bearer ${this.peers.secret}`, 'content-type': 'application/json' },
        body: JSON.stringify({ ticket }),
        signal: AbortSignal.timeout(ANSWER_MS),
      });
      if (!response.ok) return undefined;
      return ((await response.json()) as { identity: Identity }).identity;
    } catch {
      throw problemError(
        'behind',
        `The node at ${address}, which issued the ticket, does not answer. Get a new ticket.`,
      );
    }
  }
}
