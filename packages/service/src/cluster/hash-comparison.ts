import type { NodeReport } from '../log/transport.js';

/** The number of own hashes that are kept, for the comparison with nodes that are behind. */
const KEPT = 10_000;

/** Compares the hash over all records with that of other nodes, at the same places of the log. */
export class HashComparison {
  /** Own hashes by place, the latest last. */
  readonly #own = new Map<number, string>();
  /** Of each other node, the report that is further than this node. */
  readonly #ahead = new Map<string, NodeReport>();
  readonly #differing = new Set<string>();
  #latest: number;

  constructor({ place, hash }: { place: number; hash: string }) {
    this.#own.set(place, hash);
    this.#latest = place;
  }

  /** Notes an own hash. Returns whether a node differs. */
  reached(place: number, hash: string): boolean {
    this.#own.set(place, hash);
    this.#latest = place;
    if (this.#own.size > KEPT) this.#own.delete(this.#own.keys().next().value!);
    let differs = false;
    for (const [node, report] of this.#ahead) {
      if (report.place > place) continue;
      this.#ahead.delete(node);
      differs = this.compare(report) || differs;
    }
    return differs;
  }

  /** Compares the report of another node. Returns whether it differs. */
  compare(report: NodeReport): boolean {
    const own = this.#own.get(report.place);
    if (own === undefined) {
      if (report.place > this.#latest) this.#ahead.set(report.node, report);
      return this.#differing.has(report.node);
    }
    if (own === report.hash) this.#differing.delete(report.node);
    else this.#differing.add(report.node);
    return own !== report.hash;
  }

  differs(node: string): boolean {
    return this.#differing.has(node);
  }

  forget(node: string): void {
    this.#ahead.delete(node);
    this.#differing.delete(node);
  }
}
