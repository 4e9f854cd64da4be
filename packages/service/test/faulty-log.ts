import type { LogEntry } from '../dist/state/log-entry.js';
import type { LogFollower, LogPlace, LogTransport, NodeReport } from '../dist/log/transport.js';
import type { Random } from '../../../test/random.js';

/** How likely each fault is, from 0 to 1. */
export interface Faults {
  /** An append that is lost, and one whose answer is lost. */
  lostAppend: number;
  lostAnswer: number;
  /** An append that fails, and is in the log later all the same, behind others. */
  lateAppend: number;
  doubledAppend: number;
  /** A connection that ends while it delivers. */
  cut: number;
  /** A delivery that waits for a while. */
  stall: number;
}

export const NO_FAULTS: Faults = { lostAppend: 0, lostAnswer: 0, lateAppend: 0, doubledAppend: 0, cut: 0, stall: 0 };

const LATE_MS = 30;
const STALL_MS = 15;

/** A log service in memory, whose connections have faults. */
export class FaultyLog {
  readonly entries: Buffer[] = [];
  readonly #followers = new Set<() => void>();
  readonly #reports = new Set<(report: NodeReport) => void>();
  faults = NO_FAULTS;
  /** Appends that will be in the log later. */
  late = 0;

  constructor(private readonly random: Random) {}

  /** The connection of one node. `reachable` can be set to false. */
  connect(): LogTransport & { reachable: boolean } {
    const stops = new Set<() => void>();
    const transport = {
      reachable: true,
      append: async (bytes: Buffer) => {
        await this.#pause();
        const { lostAppend, lostAnswer, lateAppend, doubledAppend } = this.faults;
        if (!transport.reachable || this.random.chance(lostAppend)) throw new Error('no answer');
        if (this.random.chance(lateAppend)) {
          this.late++;
          setTimeout(() => {
            this.late--;
            this.#add(bytes);
          }, LATE_MS);
          throw new Error('no answer');
        }
        this.#add(bytes);
        if (this.random.chance(doubledAppend)) this.#add(bytes);
        if (this.random.chance(lostAnswer)) throw new Error('no answer');
      },
      follow: (after: LogPlace, follower: LogFollower) => {
        const stop = this.#follow(after, follower, () => transport.reachable);
        stops.add(stop);
        return stop;
      },
      report: (report: NodeReport) => {
        if (!transport.reachable) return Promise.reject(new Error('no answer'));
        for (const deliverReport of this.#reports) deliverReport(report);
        return Promise.resolve();
      },
      bounds: () => Promise.resolve({ first: 1, last: this.entries.length }),
      close: () => {
        for (const stop of stops) stop();
        return Promise.resolve();
      },
    };
    return transport;
  }

  #add(bytes: Buffer): void {
    this.entries.push(bytes);
    for (const deliver of this.#followers) deliver();
  }

  #follow({ place }: LogPlace, follower: LogFollower, isReachable: () => boolean): () => void {
    let next = place;
    let running = false;
    let stopped = false;
    const stop = () => {
      stopped = true;
      this.#followers.delete(deliver);
      this.#reports.delete(deliverReport);
    };
    const deliverReport = (report: NodeReport) => follower.report(report);
    const run = async () => {
      running = true;
      while (next < this.entries.length && !stopped) {
        await this.#pause();
        if (this.random.chance(this.faults.stall)) await new Promise((resolve) => setTimeout(resolve, STALL_MS));
        if (stopped) break;
        if (!isReachable() || this.random.chance(this.faults.cut)) {
          stop();
          follower.lost(new Error('the connection was cut'));
          break;
        }
        const entry: LogEntry = { place: next + 1, revision: 2 * next + 5, bytes: this.entries[next]! };
        // Delivered twice now and then.
        if (this.random.chance(this.faults.cut)) follower.entry(entry);
        next++;
        follower.entry(entry);
      }
      running = false;
    };
    const deliver = () => {
      if (!running && !stopped) void run();
    };
    this.#followers.add(deliver);
    this.#reports.add(deliverReport);
    deliver();
    return stop;
  }

  #pause(): Promise<void> {
    return new Promise((resolve) => setImmediate(resolve));
  }
}
