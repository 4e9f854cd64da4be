import { randomBytes } from 'node:crypto';
import { problemError, type EtcdMember } from '@uproar/protocol';
import { ReplicatedLog } from '../log/replicated-log.js';
import { TooFarBehindError, type LogPlace, type NodeReport } from '../log/transport.js';
import type { LogParts, Store } from '../store/index.js';
import { VERSION } from '../version.js';
import { RECORD_FORMAT } from '../state/records.js';
import { ContentCopies } from './content-copies.js';
import type { EtcdOptions } from './etcd-connection.js';
import { EtcdLog, type Founding } from './etcd-log.js';
import { EtcdMembers } from './etcd-members.js';
import { HashComparison } from './hash-comparison.js';
import { Leases, type SharedWork } from './leases.js';
import { ENTRY_BYTES, foundOrJoin, START_MS, type Position } from './join.js';
import { keepSecret } from './store-identity.js';

/** How a node takes part in a cluster. */
export interface ClusterOptions {
  etcd: EtcdOptions;
  /** Where other nodes, and clients, reach this node. */
  address: string;
}

/** A node, as the others see it. */
export interface NodeStatus extends NodeReport {
  /** How many entries of the log it had not applied when it last reported. */
  lag: number;
  /** How long ago its last report arrived, in milliseconds. */
  silentMs: number;
  /** Whether its state differs from that of this node at the same place. */
  differs: boolean;
  /** How far its clock is ahead of the clock of this node, in milliseconds. */
  clockDifferenceMs: number;
}

/** A report, as it arrived here. */
interface ReceivedReport {
  report: NodeReport;
  atMs: number;
  clockDifferenceMs: number;
  /** How many entries that are in the log before the report its node had not applied. */
  lag: number;
}

/** The state of the cluster, as this node sees it. */
export interface ClusterStatus {
  node: string;
  founding: Omit<Founding, 'secret'>;
  nodes: NodeStatus[];
  /** Which node does the work that one does for all. */
  leases: { work: SharedWork; node: string }[];
  /** Since when this node may lack what others have written; undefined while it is up to date. */
  staleSinceMs: number | undefined;
  /** Why it does not take part any more. */
  halted: string | undefined;
}

/** The state of this node differs from that of most others. */
class TooDifferentError extends Error {
  override name = 'TooDifferentError';
}

/** Says that the next start needs a copy of the store of another node. */
const MARK = "INSERT OR IGNORE INTO local (name, value) VALUES ('cluster-copy', '1')";

/** How often a node reports, in milliseconds. */
const REPORT_MS = 1000;

/** Without its own report from the log service for this time, a node counts as stale, in milliseconds. */
const STALE_AFTER_MS = 3000;

/** Another node that has not reported for this time counts as lost, in milliseconds. */
const SILENT_MS = 5000;

/** Own reports come back within this time; otherwise the log is followed over another connection, in milliseconds. */
const WATCH_AGAIN_MS = 2500;

/** How often etcd may forget old entries, and for how long they are kept at least, in milliseconds. */
const FORGET_MS = 60_000;
const KEPT_MS = 600_000;

/** A client waits so long for a node to have what it has seen, in milliseconds. */
const CATCH_UP_MS = 5000;

/** A node of a cluster: what ties its store to the log service and to the other nodes. */
export class Cluster {
  readonly node = randomBytes(6).toString('hex');
  readonly founding: Founding;
  readonly #etcd: EtcdLog;
  readonly #members: EtcdMembers;
  readonly #leases: Leases;
  readonly #address: string;
  readonly #hashes: HashComparison;
  readonly #reports = new Map<string, ReceivedReport>();
  #log: ReplicatedLog | undefined;
  #contents: ContentCopies | undefined;
  /** Why the disk of this node cannot be written to. */
  #storageProblem: () => string | undefined = () => undefined;
  /** Up to which place erasures have left nothing in the files of this node. */
  #rewritten: () => number = () => 0;
  #timer: NodeJS.Timeout | undefined;
  #forgetTimer: NodeJS.Timeout | undefined;
  /** When the latest own report was sent that came back, and before which all entries are applied. None has at the start. */
  #currentMs = -Infinity;
  /** The same by the clock, in milliseconds since 1970. */
  #currentTimeMs = Date.now();
  /** An own report that came back, and the place up to which entries must be applied before it counts. */
  #returned: { sentMs: number; place: number } | undefined;
  /** When own reports were sent that have not come back, by the time in them. */
  readonly #sent = new Map<number, number>();
  /** When the log was last followed over another connection. */
  #watchedMs = performance.now();
  #position: Position;
  /** Where this node was once a minute, the oldest first, so that the log keeps what a node needs after a short stop. */
  readonly #passed: (LogPlace & { atMs: number })[] = [];

  private constructor(
    etcd: EtcdLog,
    founding: Founding,
    { address, etcd: options }: ClusterOptions,
    position: Position,
  ) {
    this.#etcd = etcd;
    this.#members = new EtcdMembers(options);
    this.#leases = new Leases((work) => etcd.claim(work));
    this.founding = founding;
    etcd.beginAt(founding);
    this.#address = address;
    this.#position = position;
    this.#hashes = new HashComparison(position);
  }

  /**
   * Takes part in a cluster with the store of a data directory: founds the cluster, or copies the store of another node,
   * where that is needed.
   *
   * @throws {StoreError} `cluster-refused` if the store and the cluster do not belong together
   */
  static async begin(directory: string, options: ClusterOptions): Promise<Cluster> {
    const etcd = new EtcdLog(options.etcd);
    try {
      const { founding, position } = await foundOrJoin(etcd, directory);
      return new Cluster(etcd, founding, options, position);
    } catch (error) {
      await etcd.close();
      throw error;
    }
  }

  /** Makes the log of the store. */
  openLog(parts: LogParts): ReplicatedLog {
    const log = new ReplicatedLog({
      ...parts,
      transport: this.#etcd,
      producer: this.node,
      entryBytes: ENTRY_BYTES,
    });
    log.onPlace = (position) => {
      this.#position = position;
      this.#noteCurrent();
      this.#checkHashes(this.#hashes.reached(position.place, position.hash));
    };
    log.onReport = (report) => this.#receiveReport(report);
    log.onGone = (node) => {
      this.#reports.delete(node);
      this.#hashes.forget(node);
    };
    this.#log = log;
    return log;
  }

  /** Begins to follow the log. Resolves when everything that had been written is applied, or after half a minute. */
  async start(store: Store): Promise<void> {
    const log = this.#log!;
    await store.log.writeLocally((database) =>
      database
        .prepare(
          "INSERT INTO local (name, value) VALUES ('cluster', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
        )
        .run(JSON.stringify({ ...this.founding, secret: undefined })),
    );
    keepSecret(store.directory, this.founding.secret);
    this.#storageProblem = () => store.health.reason;
    this.#rewritten = () => store.rewrites.place;
    log.start();
    this.#report();
    this.#timer = setInterval(() => this.#report(), REPORT_MS).unref();
    this.#forgetTimer = setInterval(() => void this.#forget(), FORGET_MS).unref();
    this.#contents = new ContentCopies({
      store,
      secret: this.founding.secret,
      peers: () =>
        [...this.#reports.values()].flatMap(({ report: { node, address } }) => (node === this.node ? [] : [address])),
    });
    const endsMs = performance.now() + START_MS;
    const bounds = await this.#etcd.bounds().catch(() => undefined);
    // Without the log service, the node serves what it has.
    const isLevel = () => !bounds || (this.#position.place >= bounds.last && this.#currentMs > -Infinity);
    while (!isLevel() && performance.now() < endsMs && !log.halted) {
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
  }

  /** The contents of files on the nodes. */
  get contents(): ContentCopies {
    return this.#contents!;
  }

  /** Whether this node does work that one node does for all. */
  isInCharge(work: SharedWork): boolean {
    return this.#leases.isHeldBy(this.node, work);
  }

  /** The node that does work which one node does for all, if one does. */
  holderOf(work: SharedWork): string | undefined {
    return this.#leases.holders.find((holder) => holder.work === work)?.node;
  }

  /** The state of the members of etcd. */
  lookAtEtcd(): Promise<EtcdMember[]> {
    return this.#members.look();
  }

  /**
   * Tries whether etcd takes the largest entries. Resolves with the time it took, in milliseconds.
   *
   * @throws the error of etcd when it does not
   */
  async tryLargestEntry(): Promise<number> {
    return Math.round(await this.#etcd.tryEntry(ENTRY_BYTES));
  }

  /** The address of a node that is running. */
  addressOf(node: string): string | undefined {
    return this.#reports.get(node)?.report.address;
  }

  /** Whether a node has reported lately. */
  isRunning(node: string): boolean {
    const received = this.#reports.get(node);
    return received !== undefined && performance.now() - received.atMs < SILENT_MS;
  }

  /** Whether all nodes that report can read records of a format. */
  everyNodeReads(format: number): boolean {
    return [...this.#reports.values()].every(({ report }) => (report.format ?? 0) >= format);
  }

  /** What nodes authenticate with. */
  get secret(): string {
    return this.founding.secret;
  }

  /** Called when this node cannot take part any more. */
  onHalt(call: (error: Error) => void): void {
    const log = this.#log!;
    log.onHalt = (error) => {
      const mark = error instanceof TooDifferentError || error instanceof TooFarBehindError;
      const marked = mark ? log.writeLocally((database) => database.prepare(MARK).run()) : Promise.resolve();
      void marked.catch(() => undefined).then(() => call(error));
    };
  }

  /**
   * Waits until this node has a commit that a client has seen on another node. It also ends when this node is known to be
   * up to date: then no such commit exists.
   *
   * @throws {ProblemError} `behind` when that takes too long
   */
  async waitFor(seq: number): Promise<void> {
    const startedMs = performance.now();
    while (this.#log!.seq < seq && this.#currentMs <= startedMs) {
      if (performance.now() - startedMs > CATCH_UP_MS) {
        throw problemError(
          'behind',
          `This node is at seq ${this.#log!.seq}, behind ${seq}. Try another one, or again in a second.`,
        );
      }
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
  }

  /** Since when this node may lack what others have written, in milliseconds since 1970. */
  get staleSinceMs(): number | undefined {
    return performance.now() - this.#currentMs > STALE_AFTER_MS ? this.#currentTimeMs : undefined;
  }

  get halted(): Error | undefined {
    return this.#log?.halted;
  }

  status(): ClusterStatus {
    const { store, generation, place, hash } = this.founding;
    const now = performance.now();
    return {
      node: this.node,
      founding: { store, generation, place, hash },
      nodes: [...this.#reports.values()]
        .map(({ report, atMs, clockDifferenceMs, lag }) => ({
          ...report,
          clockDifferenceMs,
          silentMs: Math.round(now - atMs),
          // Of a node that does not report any more, what has been written since is missing, too.
          lag: now - atMs < STALE_AFTER_MS ? lag : Math.max(lag, this.#log!.receivedPlace - report.place),
          differs: this.#hashes.differs(report.node),
        }))
        .sort((one, other) => (one.address < other.address ? -1 : 1)),
      leases: this.#leases.holders,
      staleSinceMs: this.staleSinceMs,
      halted: this.halted?.message,
    };
  }

  async close(): Promise<void> {
    clearInterval(this.#timer);
    clearInterval(this.#forgetTimer);
    this.#contents?.close();
    this.#members.close();
    await this.#etcd.close();
  }

  #report(): void {
    if (this.#log!.halted) return;
    const timeMs = Date.now();
    this.#sent.set(timeMs, performance.now());
    const storage = this.#storageProblem();
    const report = {
      node: this.node,
      address: this.#address,
      version: VERSION,
      format: RECORD_FORMAT,
      rewritten: this.#rewritten(),
      seq: this.#log!.seq,
      timeMs,
      ...this.#position,
      ...(storage === undefined ? {} : { storage }),
    };
    // While the log service does not answer, the node is stale; its status shows that.
    this.#etcd
      .report(report)
      .then(() => this.#checkWatch())
      .catch(() => this.#sent.delete(timeMs))
      // A node that cannot write leaves the work to another one.
      .then(() => (storage === undefined && this.#etcd.hasReported ? this.#leases.claimAll() : undefined))
      .catch(() => undefined);
  }

  /** Lets etcd forget what all nodes have had for a while. One node does that for all. */
  async #forget(): Promise<void> {
    const now = performance.now();
    this.#passed.push({ ...this.#position, atMs: now });
    while (this.#passed.length > 1 && now - this.#passed[1]!.atMs > KEPT_MS) this.#passed.shift();
    const [old] = this.#passed as [LogPlace & { atMs: number }];
    const reports = [...this.#reports.values()].map(({ report }) => report);
    if (!this.isInCharge('maintenance') || this.halted || old.revision === 0 || now - old.atMs < KEPT_MS) return;
    const behind = reports.reduce<LogPlace>((least, report) => (report.place < least.place ? report : least), old);
    if (behind.revision > 0) await this.#etcd.forget(behind).catch(() => undefined);
  }

  /** If etcd takes reports, but they do not come back, the member that is watched may hang. */
  #checkWatch(): void {
    const now = performance.now();
    if (now - Math.max(this.#currentMs, this.#watchedMs) < WATCH_AGAIN_MS) return;
    this.#watchedMs = now;
    this.#log!.followAgain();
  }

  #receiveReport(report: NodeReport): void {
    const clockDifferenceMs = report.timeMs - Date.now();
    const lag = Math.max(0, this.#log!.receivedPlace - report.place);
    this.#reports.set(report.node, { report, atMs: performance.now(), clockDifferenceMs, lag });
    if (report.node !== this.node) {
      this.#checkHashes(this.#hashes.compare(report));
      return;
    }
    const sentMs = this.#sent.get(report.timeMs);
    if (sentMs === undefined) return;
    for (const timeMs of this.#sent.keys()) if (timeMs <= report.timeMs) this.#sent.delete(timeMs);
    // The entries before it have arrived, but may not be applied yet.
    this.#returned ??= { sentMs, place: this.#log!.receivedPlace };
    this.#noteCurrent();
  }

  #noteCurrent(): void {
    if (!this.#returned || this.#position.place < this.#returned.place) return;
    this.#currentMs = this.#returned.sentMs;
    this.#currentTimeMs = Math.round(Date.now() - (performance.now() - this.#currentMs));
    this.#returned = undefined;
  }

  /** A node that differs from most others must not serve any more. */
  #checkHashes(different: boolean): void {
    if (!different) return;
    const others = [...this.#reports.keys()].filter((node) => node !== this.node);
    const differing = others.filter((node) => this.#hashes.differs(node));
    if (differing.length <= others.length / 2) return;
    this.#log!.halt(
      new TooDifferentError(
        'The state of this node differs from that of the others. Its store is copied anew at the next start.',
      ),
    );
  }
}
