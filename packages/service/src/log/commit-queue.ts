/** An item that waits to be written. */
export interface Queued {
  /** How much work it is: its writes. */
  weight: number;
  /** The memory that the item needs, in bytes. */
  sizeBytes: number;
}

/** A sender whose commits keep their order, such as a connection. */
export type Lane = object;

/** The maximum number of commits in one transaction, so that none waits long. */
const MAX_GROUP_COMMITS = 512;

/** A group is closed when it has this many writes; a larger commit is written alone. */
const MAX_GROUP_WEIGHT = 500;

/**
 * Commits in the queue. Each sender has a lane; lanes take turns, so that one who sends a lot, or large
 * commits, holds up the others for one group at most.
 */
export class CommitQueue<Item extends Queued> {
  readonly #lanes = new Map<Lane, Item[]>();
  /** The large item that goes first in the next group. */
  #deferred: Item | undefined;
  #length = 0;
  #sizeBytes = 0;

  get length(): number {
    return this.#length;
  }

  /** What waits takes in memory. */
  get sizeBytes(): number {
    return this.#sizeBytes;
  }

  /** Adds an item behind the others of its lane. */
  push(item: Item, lane: Lane): void {
    const waiting = this.#lanes.get(lane);
    if (waiting) waiting.push(item);
    else this.#lanes.set(lane, [item]);
    this.#length++;
    this.#sizeBytes += item.sizeBytes;
  }

  /**
   * Takes the next items, one from each lane in turn, until the group is full. Items that are not iterated stay in the
   * queue.
   */
  *take(): Generator<Item, void> {
    let taken = 0;
    let weight = 0;
    // A lane with more items is put at the end again, and so comes up again. Lanes whose next item does not fit keep
    // their place at the front, and go first next time.
    for (const [lane, waiting] of this.#lanes) {
      if (taken >= MAX_GROUP_COMMITS || weight >= MAX_GROUP_WEIGHT) return;
      const next = waiting[0]!;
      // An item larger than a group lets the others go first, once.
      if (next.weight > MAX_GROUP_WEIGHT && this.#deferred === undefined && this.#lanes.size > 1) {
        this.#deferred = next;
        continue;
      }
      if (taken > 0 && weight + next.weight > MAX_GROUP_WEIGHT) continue;
      if (next === this.#deferred) this.#deferred = undefined;
      waiting.shift();
      this.#lanes.delete(lane);
      if (waiting.length > 0) this.#lanes.set(lane, waiting);
      taken++;
      weight += next.weight;
      this.#length--;
      this.#sizeBytes -= next.sizeBytes;
      yield next;
    }
  }
}
