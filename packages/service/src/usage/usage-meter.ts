import type { UsageRow } from '../state/records.js';
import { OTHERS } from '../state/usage-table.js';

/** Combinations of identity and collection that are told apart between two recordings. */
const MAX_COUNTERS = 100_000;

/** Counts what one identity uses of one collection. */
export class UsageCounter {
  readonly #onUse: (counter: UsageCounter) => void;
  #counts: number[] = [0, 0, 0, 0, 0, 0];
  #used = false;

  constructor(
    readonly identity: string,
    readonly collection: string,
    onUse: (counter: UsageCounter) => void,
  ) {
    this.#onUse = onUse;
  }

  /** Counts a request or a call, and the bytes of its answer. */
  request(sentBytes: number): void {
    this.#add(0, 1);
    this.#add(5, sentBytes);
  }

  /** Counts returned documents, and documents that the store examined for them. */
  read(documents: number, examined: number): void {
    this.#add(1, documents);
    this.#add(2, examined);
  }

  write(documents: number): void {
    this.#add(3, documents);
  }

  /** Counts an event of a watch, or an event that was sent to a hook. */
  delivery(sentBytes: number): void {
    this.#add(4, 1);
    this.#add(5, sentBytes);
  }

  /** The counts so far. */
  get row(): UsageRow {
    const [requests, reads, examined, writes, deliveries, sentBytes] = this.#counts as [
      number,
      number,
      number,
      number,
      number,
      number,
    ];
    return [this.identity, this.collection, requests, reads, examined, writes, deliveries, sentBytes];
  }

  /** The counts so far, which are then cleared. */
  take(): UsageRow {
    const { row } = this;
    this.#counts = [0, 0, 0, 0, 0, 0];
    this.#used = false;
    return row;
  }

  /** Adds counts that could not be recorded. */
  putBack([, , ...counts]: UsageRow): void {
    counts.forEach((count, at) => this.#add(at, count));
  }

  #add(at: number, count: number): void {
    this.#counts[at]! += count;
    if (this.#used) return;
    this.#used = true;
    this.#onUse(this);
  }
}

/**
 * Counts in memory what each identity uses of each collection. Counters stay valid, so frequent callers can keep them.
 */
export class UsageMeter {
  #counters = new Map<string, Map<string, UsageCounter>>();
  #size = 0;
  #used: UsageCounter[] = [];

  /**
   * @param identity as `key:board`
   * @param collection empty for what belongs to none, or to several
   */
  counterFor(identity: string, collection: string): UsageCounter {
    let ofIdentity = this.#counters.get(identity);
    let counter = ofIdentity?.get(collection);
    if (counter) return counter;
    if (this.#size >= MAX_COUNTERS && identity !== OTHERS) return this.counterFor(OTHERS, '');
    counter = new UsageCounter(identity, collection, (used) => this.#used.push(used));
    if (!ofIdentity) this.#counters.set(identity, (ofIdentity = new Map()));
    ofIdentity.set(collection, counter);
    this.#size++;
    return counter;
  }

  /** What was counted and not taken yet. */
  get waiting(): UsageRow[] {
    return this.#used.map(({ row }) => row);
  }

  /** Takes the counts of up to `most` counters that were used since they were taken last. */
  take(most: number): UsageRow[] {
    const taken = this.#used.splice(0, most);
    if (this.#used.length === 0) {
      this.#counters.clear();
      this.#size = 0;
    }
    return taken.map((counter) => counter.take());
  }

  /** Adds counts that were taken and could not be recorded. */
  putBack(rows: readonly UsageRow[]): void {
    for (const row of rows) this.counterFor(row[0], row[1]).putBack(row);
  }
}
