import { randomBytes } from 'node:crypto';
import { problemError } from '@uproar/protocol';
import { ReplicatedLog } from '../log/replicated-log.js';
import { TooFarBehindError, type LogPlace, type NodeReport } from '../log/transport.js';
import { openStore, StoreError, type LogParts, type Store } from '../store/index.js';
import { VERSION } from '../version.js';
import { copyStore } from './copy-store.js';
import { ContentCopies } from './content-copies.js';
import { EtcdLog, type EtcdOptions, type Founding } from './etcd-log.js';
import { HashComparison } from './hash-comparison.js';
import { identifyStore, keepSecret, type StoreIdentity } from './store-identity.js';

/** How a node takes part in a cluster. */
export interface ClusterOptions {
  etcd: EtcdOptions;
  /** Where other nodes, and clients, reach this node. */
  address: string;
}

/** A node, as the others see it. */
export interface NodeStatus extends NodeReport {
  /** How long ago its last report arrived, in milliseconds. */
  silentMs: number;
  /** Whether its state differs from that of this node at the same place. */
  differs: boolean;
  /** How far its clock is ahead of the clock of this node, in milliseconds. */
  clockDifferenceMs: number;
}

/** Where a node is in the log. */
type Position = LogPlace & { hash: string };

/** The state of the cluster, as this node sees it. */
export interface ClusterStatus {
  node: string;
  founding: Omit<Founding, 'secret'>;
  nodes: NodeStatus[];
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

/** Own reports come back within this time; otherwise the log is followed over another connection, in milliseconds. */
const WATCH_AGAIN_MS = 2500;

/** How often etcd may forget old entries, and for how long they are kept at least, in milliseconds. */
const FORGET_MS = 60_000;
const KEPT_MS = 600_000;

/** How long a start waits for the log service, and for the entries that were written meanwhile, in milliseconds. */
const START_MS = 30_000;

/** A client waits so long for a node to have what it has seen, in milliseconds. */
const CATCH_UP_MS = 5000;

/** The most bytes of one entry; etcd takes 1.5 MiB by default. */
const ENTRY_BYTES = 900_000;

/** A node of a cluster: what ties its store to the log service and to the other nodes. */
export class Cluster {
  readonly node = randomBytes(6).toString('hex');
  readonly founding: Founding;
  readonly #etcd: EtcdLog;
  readonly #address: string;
  readonly #hashes: HashComparison;
  readonly #reports = new Map<string, { report: NodeReport; atMs: number; clockDifferenceMs: number }>();
  #log: ReplicatedLog | undefined;
  #contents: ContentCopies | undefined;
  #timer: NodeJS.Timeout | undefined;
  #forgetTimer: NodeJS.Timeout | undefined;
  /** When the latest own report was sent that came back, and before which all entries are applied. */
  #currentMs = performance.now();
  /** An own report that came back, and the place up to which entries must be applied before it counts. */
  #returned: { sentMs: number; place: number } | undefined;
  /** When own reports were sent that have not come back, by the time in them. */
  readonly #sent = new Map<number, number>();
  /** When the log was last followed over another connection. */
  #watchedMs = performance.now();
  #position: Position;
  /** Where this node was once a minute, the oldest first, so that the log keeps what a node needs after a short stop. */
  readonly #passed: (LogPlace & { atMs: number })[] = [];

  private constructor(etcd: EtcdLog, founding: Founding, address: string, position: Position) {
    this.#etcd = etcd;
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
  static async begin(directory: string, { etcd: etcdOptions, address }: ClusterOptions): Promise<Cluster> {
    const etcd = new EtcdLog(etcdOptions);
    try {
      const own = identifyStore(directory);
      const present = await foundingOf(etcd, own);
      const { founding, position } = present
        ? { founding: present, position: await joinWith(etcd, present, own, directory) }
        : await found(etcd, own, directory);
      return new Cluster(etcd, founding, address, position);
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
    const { last } = await this.#etcd.bounds().catch(() => ({ last: 0 }));
    while (this.#position.place < last && performance.now() < endsMs && !log.halted) {
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
  }

  /** The contents of files on the nodes. */
  get contents(): ContentCopies {
    return this.#contents!;
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
    const silentMs = performance.now() - this.#currentMs;
    return silentMs > STALE_AFTER_MS ? Date.now() - silentMs : undefined;
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
        .map(({ report, atMs, clockDifferenceMs }) => ({
          ...report,
          clockDifferenceMs,
          silentMs: Math.round(now - atMs),
          differs: this.#hashes.differs(report.node),
        }))
        .sort((one, other) => (one.address < other.address ? -1 : 1)),
      staleSinceMs: this.staleSinceMs,
      halted: this.halted?.message,
    };
  }

  async close(): Promise<void> {
    clearInterval(this.#timer);
    clearInterval(this.#forgetTimer);
    this.#contents?.close();
    await this.#etcd.close();
  }

  #report(): void {
    if (this.#log!.halted) return;
    const timeMs = Date.now();
    this.#sent.set(timeMs, performance.now());
    const report = { node: this.node, address: this.#address, version: VERSION, seq: this.#log!.seq, timeMs };
    // While the log service does not answer, the node is stale; its status shows that.
    this.#etcd.report({ ...report, ...this.#position }).then(
      () => this.#checkWatch(),
      () => this.#sent.delete(timeMs),
    );
  }

  /** Lets etcd forget what all nodes have had for a while. One node does that for all: the one with the first name. */
  async #forget(): Promise<void> {
    const now = performance.now();
    this.#passed.push({ ...this.#position, atMs: now });
    while (this.#passed.length > 1 && now - this.#passed[1]!.atMs > KEPT_MS) this.#passed.shift();
    const [old] = this.#passed as [LogPlace & { atMs: number }];
    const reports = [...this.#reports.values()].map(({ report }) => report);
    const isFirst = reports.every(({ node }) => node >= this.node);
    if (!isFirst || this.halted || old.revision === 0 || now - old.atMs < KEPT_MS) return;
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
    this.#reports.set(report.node, { report, atMs: performance.now(), clockDifferenceMs });
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

/** What the cluster was founded with; undefined if it was not yet. Without the log service: what the store knows of it. */
async function foundingOf(etcd: EtcdLog, own: StoreIdentity | undefined): Promise<Founding | undefined> {
  const endsMs = performance.now() + START_MS;
  for (;;) {
    try {
      const founding = await etcd.founding();
      if (founding || !own?.cluster) return founding;
      throw new StoreError(
        'cluster-refused',
        'This store is part of a cluster, but the log service has no data of it. If the data is lost, run ' +
          '"uproar cluster detach" on the store that is furthest, and begin a new cluster with it.',
      );
    } catch (error) {
      if (error instanceof StoreError) throw error;
      // A node that was part of the cluster serves what it has.
      if (own?.cluster?.secret !== undefined) return { ...own.cluster, secret: own.cluster.secret };
      if (performance.now() > endsMs) {
        throw new StoreError(
          'cluster-unreachable',
          `The log service does not answer (${(error as Error).message}). Check the addresses in --cluster.`,
        );
      }
      await new Promise((resolve) => setTimeout(resolve, 500));
    }
  }
}

/** Founds a cluster with the store of this node. */
async function found(
  etcd: EtcdLog,
  own: StoreIdentity | undefined,
  directory: string,
): Promise<{ founding: Founding; position: Position }> {
  if (!own) await openStore(directory).close();
  const { store, generation, place, hash } = identifyStore(directory)!;
  const secret = randomBytes(24).toString('base64url');
  const founding = await etcd.found({ store, generation, place, hash, secret });
  if (founding.generation === generation) return { founding, position: { place, hash, revision: 0 } };
  // Another node was faster. Nothing is lost with a store that was just made.
  return { founding, position: await joinWith(etcd, founding, own, directory) };
}

/** Makes sure that the store of this node belongs to the cluster, and can follow its log. Returns where it is. */
async function joinWith(
  etcd: EtcdLog,
  founding: Founding,
  own: StoreIdentity | undefined,
  directory: string,
): Promise<Position> {
  if (own && (own.store !== founding.store || own.generation !== founding.generation)) {
    throw new StoreError(
      'cluster-refused',
      `The store in ${directory} is not that of the cluster. Use an empty directory to join, or another --cluster-prefix.`,
    );
  }
  const bounds = await etcd.bounds().catch(() => undefined);
  if (own && bounds && bounds.last < own.place) {
    throw new StoreError(
      'cluster-refused',
      `The log of the cluster ends at ${bounds.last}, but this store is at ${own.place}: the log service has lost data. ` +
        'Run "uproar cluster detach" on the store that is furthest, and begin a new cluster with it.',
    );
  }
  if (own && !own.unfit && !(bounds && bounds.first > own.place + 1)) return own;
  await copyFromAny(etcd, founding, directory);
  return identifyStore(directory)!;
}

async function copyFromAny(etcd: EtcdLog, { secret }: Founding, directory: string): Promise<void> {
  const endsMs = performance.now() + START_MS;
  let problem = 'no node is running';
  for (;;) {
    const nodes = await etcd.nodes().catch(() => []);
    for (const { address } of nodes.sort((one, other) => other.place - one.place)) {
      try {
        await copyStore(address, secret, directory);
        return;
      } catch (error) {
        problem = (error as Error).message;
      }
    }
    if (performance.now() > endsMs) {
      throw new StoreError(
        'cluster-unreachable',
        `The store could not be copied from another node: ${problem}. Start one that has it.`,
      );
    }
    await new Promise((resolve) => setTimeout(resolve, 500));
  }
}
