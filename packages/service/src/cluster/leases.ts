/** Work that one node of a cluster does for all: cutting the journal and removing what has expired; delivering to hooks. */
export const SHARED_WORK = ['maintenance', 'hooks'] as const;
export type SharedWork = (typeof SHARED_WORK)[number];

/**
 * A claim counts for this time from its start, in milliseconds. etcd keeps it longer, so that a node that was paused does not
 * go on with what another node has taken over.
 */
const COUNTS_MS = 5000;

/** Which node does the work that is done once for all, decided by claims that end if they are not made again. */
export class Leases {
  readonly #claim: (work: string) => Promise<string>;
  readonly #holders = new Map<SharedWork, { node: string; claimedMs: number }>();

  /** @param claim claims work for this node, and resolves with the node that has it */
  constructor(claim: (work: string) => Promise<string>) {
    this.#claim = claim;
  }

  /** Claims everything that no other node does. Called about once a second. */
  async claimAll(): Promise<void> {
    for (const work of SHARED_WORK) {
      const claimedMs = performance.now();
      const node = await this.#claim(work);
      this.#holders.set(work, { node, claimedMs });
    }
  }

  /** Whether a node does this work now. */
  isHeldBy(node: string, work: SharedWork): boolean {
    const holder = this.#holders.get(work);
    return holder?.node === node && performance.now() - holder.claimedMs < COUNTS_MS;
  }

  /** The node that did each work at the latest claim. */
  get holders(): { work: SharedWork; node: string }[] {
    return [...this.#holders].flatMap(([work, { node }]) => (node === '' ? [] : [{ work, node }]));
  }
}
