import { randomBytes } from 'node:crypto';
import { Etcd3, type IKeyValue, type IOptions, type Lease, type Watcher } from 'etcd3';
import {
  TooFarBehindError,
  type LogFollower,
  type LogPlace,
  type LogTransport,
  type NodeReport,
} from '../log/transport.js';
import { connectionOptions, type EtcdOptions } from './etcd-connection.js';

/** What is fixed when a cluster is founded. */
export interface Founding {
  /** The id of the store, and the generation of its log. */
  store: string;
  generation: string;
  /** The place in the store's log behind which the entries of the cluster begin, and the hash at that place. */
  place: number;
  hash: string;
  /** Lets nodes of the cluster read from each other. */
  secret: string;
}

const TOO_FAR = 'The log does not reach back to where this node is. Its store is copied anew at the next start.';

/** A node that does not report for this time is gone, in seconds. */
const LEASE_S = 10;

/**
 * The log of a cluster in etcd. The entries are the versions of one key; etcd keeps them in one order, each on the disks
 * of a majority of its members.
 */
export class EtcdLog implements LogTransport {
  readonly #client: Etcd3;
  /** A client of its own for the watch, so that neither holds up the other; a new one each time, on any member. */
  #watching: Etcd3 | undefined;
  readonly #options: IOptions;
  readonly #prefix: string;
  #lease: Lease | undefined;
  #node: string | undefined;
  /** The lease under which each work was claimed. */
  readonly #claimedUnder = new Map<string, string>();
  /** The place behind which the entries in etcd begin. */
  #base = 0;
  #closed = false;

  constructor(options: EtcdOptions) {
    this.#options = connectionOptions(options, options.urls);
    this.#client = new Etcd3(this.#options);
    this.#prefix = options.prefix;
  }

  /** Whether its latest report was taken: without it, it cannot claim work. */
  get hasReported(): boolean {
    return this.#lease !== undefined && !this.#closed;
  }

  get #logKey(): string {
    return `${this.#prefix}log`;
  }

  get #nodesKey(): string {
    return `${this.#prefix}nodes/`;
  }

  /** What the cluster was founded with; undefined if it was not yet. */
  async founding(): Promise<Founding | undefined> {
    const text = await this.#client.get(`${this.#prefix}founding`).string();
    if (text === null) return undefined;
    const founding = JSON.parse(text) as Founding;
    this.beginAt(founding);
    return founding;
  }

  /** Sets where the entries of the cluster begin, if {@link founding} cannot be read. */
  beginAt({ place }: Pick<Founding, 'place'>): void {
    this.#base = place;
  }

  /** Founds a cluster, unless it was founded meanwhile. Returns what it was founded with. */
  async found(founding: Founding): Promise<Founding> {
    const key = `${this.#prefix}founding`;
    await this.#client
      .if(key, 'Create', '==', 0)
      .then(this.#client.put(key).value(JSON.stringify(founding)))
      .commit();
    return (await this.founding())!;
  }

  /** The nodes that have reported lately. */
  async nodes(): Promise<NodeReport[]> {
    const { kvs } = await this.#client.getAll().prefix(this.#nodesKey).exec();
    return kvs.map(({ value }) => JSON.parse(value.toString()) as NodeReport);
  }

  async append(bytes: Buffer): Promise<void> {
    await this.#client.put(this.#logKey).value(bytes).exec();
  }

  follow(after: LogPlace, follower: LogFollower): () => void {
    let stopped = false;
    let watcher: Watcher | undefined;
    const stop = () => {
      stopped = true;
      watcher?.cancel().catch(() => undefined);
    };
    const lose = (error: Error) => {
      if (stopped) return;
      stop();
      follower.lost(error);
    };
    this.#watch(after)
      .then((created) => {
        watcher = created;
        if (stopped) return stop();
        created.on('data', ({ events }) => {
          for (const { kv, type } of events) {
            if (!stopped) this.#deliver(kv, type === 'Delete', follower);
          }
        });
        // It would connect again by itself, to the same member and without an end.
        created.on('disconnected', () => lose(new Error('The connection to the log service was lost.')));
        created.on('error', (error) => lose(isCompacted(error) ? new TooFarBehindError(TOO_FAR) : error));
        // Earlier reports of the other nodes. An own one is only passed on in its order among the entries.
        return this.nodes().then((reports) => {
          if (stopped) return;
          for (const report of reports) if (report.node !== this.#node) follower.report(report);
        });
      })
      .catch((error: Error) => lose(isCompacted(error) ? new TooFarBehindError(TOO_FAR) : error));
    return stop;
  }

  async report(report: NodeReport): Promise<void> {
    this.#node = report.node;
    if (this.#closed) return;
    if (!this.#lease) {
      const lease = this.#client.lease(LEASE_S);
      this.#lease = lease;
      lease.on('lost', () => {
        if (this.#lease === lease) this.#lease = undefined;
      });
    }
    try {
      await this.#lease.put(this.#nodesKey + report.node).value(JSON.stringify(report));
    } catch (error) {
      this.#lease?.release();
      this.#lease = undefined;
      throw error;
    }
  }

  /**
   * Takes over work that one node does for all, unless another node has it.
   *
   * @returns the node that has it; it must claim it again before {@link LEASE_S} have passed
   */
  async claim(work: string): Promise<string> {
    const key = `${this.#prefix}leases/${work}`;
    const node = this.#node!;
    const lease = await this.#lease!.grant();
    const taken = this.#client.put(key).value(node).lease(lease);
    const { succeeded } = await this.#client.if(key, 'Create', '==', 0).then(taken).commit();
    if (succeeded) {
      this.#claimedUnder.set(work, lease);
      return node;
    }
    const holder = (await this.#client.get(key).string()) ?? '';
    if (holder !== node || this.#claimedUnder.get(work) === lease) return holder;
    // This node has it under an earlier lease, which is not kept alive any more.
    const { succeeded: kept } = await this.#client.if(key, 'Value', '==', node).then(taken).commit();
    if (kept) this.#claimedUnder.set(work, lease);
    return kept ? node : '';
  }

  /**
   * Tries whether the service takes an entry of a size. What is written is removed again.
   *
   * @returns how long it took, in milliseconds
   * @throws when the service does not take it, or not in time
   */
  async tryEntry(bytes: number): Promise<number> {
    const key = `${this.#prefix}trial/${randomBytes(6).toString('hex')}`;
    const startedMs = performance.now();
    try {
      await this.#client.put(key).value(Buffer.alloc(bytes)).exec();
      return performance.now() - startedMs;
    } finally {
      const removal = this.#client.delete().key(key).exec();
      await removal.catch(() => undefined);
    }
  }

  async bounds(): Promise<{ first: number; last: number }> {
    const { kvs } = await this.#client.get(this.#logKey).exec();
    const last = this.#base + Number(kvs[0]?.version ?? 0);
    const first = Number((await this.#client.get(`${this.#prefix}first`).string()) ?? this.#base + 1);
    return { first, last };
  }

  /** Lets the service forget the entries up to a place. */
  async forget({ place, revision }: LogPlace): Promise<void> {
    await this.#client
      .put(`${this.#prefix}first`)
      .value(String(place + 1))
      .exec();
    await this.#client.kv.compact({ revision: String(revision), physical: false });
  }

  async close(): Promise<void> {
    this.#closed = true;
    // What the node has reported, and the work that it does for all, is free for others at once.
    await this.#lease?.revoke().catch(() => undefined);
    this.#client.close();
    this.#watching?.close();
  }

  async #watch({ place, revision }: LogPlace): Promise<Watcher> {
    let from = revision + 1;
    if (revision === 0) {
      const { kvs } = await this.#client.get(this.#logKey).exec();
      const log = kvs[0];
      if (!log) {
        // No entry yet: whatever comes after now.
        const { header } = await this.#client.get(`${this.#prefix}founding`).exec();
        from = Number(header.revision) + 1;
      } else if (this.#base === place) from = Number(log.create_revision);
      else throw new TooFarBehindError(TOO_FAR);
    }
    // A client that is made after the end would keep the process alive.
    if (this.#closed) throw new Error('The connection to the log service has ended.');
    this.#watching?.close();
    this.#watching = new Etcd3(this.#options);
    return this.#watching.watch().prefix(this.#prefix).startRevision(String(from)).watcher();
  }

  #deliver(kv: IKeyValue, deleted: boolean, follower: LogFollower): void {
    const key = kv.key.toString();
    if (key === this.#logKey && !deleted) {
      const place = this.#base + Number(kv.version);
      follower.entry({ place, revision: Number(kv.mod_revision), bytes: kv.value });
    } else if (key.startsWith(this.#nodesKey)) {
      if (deleted) follower.gone(key.slice(this.#nodesKey.length));
      else follower.report(JSON.parse(kv.value.toString()) as NodeReport);
    }
  }
}

function isCompacted(error: Error): boolean {
  return error.message.includes('compacted');
}
