/**
 * What a load takes, computed from measured costs. `npm run bench -- sizing` measures the costs and checks the result against
 * loads that it runs.
 */

/** A load. Rates are per second, sizes in bytes. */
export interface Load {
  /** Connected devices. */
  devices: number;
  /** How many devices get each change, on average. */
  watchersPerChange: number;
  /** Different views: 1 if all devices watch the same query with the same rights, up to as many as there are devices. */
  views: number;
  commits: number;
  /** Queries of 20 documents by an index. */
  queries: number;
  documents: number;
  documentBytes: number;
  /** How long the journal reaches back, in days. */
  journalDays: number;
}

/** The costs of one machine. */
export interface Costs {
  /**
   * Each, in microseconds of CPU. A batch is what one sync writes. `rest` is added to each batch and query of a store that has
   * little to do: after a rest, a processor works more slowly. `device` and `idle` are for each second.
   */
  cpuUs: {
    batch: number;
    commit: number;
    query: number;
    rest: number;
    message: number;
    view: number;
    device: number;
    idle: number;
  };
  /** With so many batches and queries a second, half of `rest` is added. */
  restPerS: number;
  /** How long a batch takes, in milliseconds, and how much longer for each commit a second. */
  batchMs: { least: number; perCommit: number };
  bytes: {
    /** Memory of a service without devices and documents. */
    base: number;
    connection: number;
    /** Memory of a view that only one device watches, in addition to its connection. */
    view: number;
    /** On disk, in addition to the data: of a document, and of a change in the journal. */
    document: number;
    change: number;
    /** Sent in addition to the data of the document that changed. */
    message: number;
  };
}

/** What a load takes. */
export interface Need {
  /** Cores that are busy all the time, on one node. */
  cpu: number;
  memoryBytes: number;
  diskBytes: number;
  sentBytesPerS: number;
  /** Messages to watchers a second. */
  messages: number;
  /** Nodes, so that none is busy for more than half of the time. Undefined where no number of them suffices. */
  nodes: number | undefined;
  /** What decides the number of nodes. Each node applies all commits, so more nodes do not help with these. */
  because: 'one suffices' | 'processor' | 'connections' | 'commits';
}

/** Measured on two cores of a shared host; see docs/benchmarks.md. */
export const MEASURED: Costs = {
  cpuUs: { batch: 450, commit: 100, query: 300, rest: 1900, message: 9, view: 25, device: 5, idle: 23_000 },
  restPerS: 220,
  batchMs: { least: 0.2, perCommit: 0.0002 },
  bytes: { base: 190e6, connection: 11e3, view: 3e3, document: 90, change: 170, message: 165 },
};

/** One process does nearly all work in one thread, and needs air for bursts. */
const BUSY_AT_MOST = 0.5;
/** The default of --connection-limit. */
const CONNECTIONS = 20_000;
/** What one log takes on a cluster. */
const LOG_COMMITS = 1800;
/** Documents, what the journal keeps of them, and an eighth for indexes. */
const INDEX_SHARE = 1.125;
/** SQLite keeps at most this much of its file in memory, for each of its three connections. */
const CACHE_BYTES = 64e6;
/** What changed of a larger document is sent as a patch, about as long as this. */
const PATCH_BYTES = 300;
const DAY_S = 86_400;

/** What a load takes with given costs. */
export function estimate(load: Load, costs: Costs = MEASURED): Need {
  const { cpuUs, bytes } = costs;
  // Commits that arrive while a batch is written share the next one.
  const batchS = (costs.batchMs.least + load.commits * costs.batchMs.perCommit) / 1000;
  const batches = load.commits / (1 + load.commits * batchS);
  const shared = load.views <= 1;
  // A view sends one message for all that a batch changed in it.
  const messages = load.watchersPerChange * (shared ? batches : load.commits);
  const views = (load.watchersPerChange * Math.max(1, load.views)) / Math.max(1, load.devices);
  const events = batches + load.queries;
  const rest = (cpuUs.rest * costs.restPerS) / (costs.restPerS + events);
  /** On each node, and on all together. */
  const ownUs = cpuUs.idle + batches * (cpuUs.batch + rest) + load.commits * (cpuUs.commit + views * cpuUs.view);
  const dividedUs = load.devices * cpuUs.device + load.queries * (cpuUs.query + rest) + messages * cpuUs.message;
  const own = ownUs / 1e6;
  const divided = dividedUs / 1e6;
  const documents = load.documents * (load.documentBytes + bytes.document) * INDEX_SHARE;
  const journal = load.commits * load.journalDays * DAY_S * (2 * load.documentBytes + bytes.change);
  const diskBytes = documents + journal;
  const memoryBytes =
    bytes.base +
    Math.min(CACHE_BYTES, diskBytes) +
    load.devices * bytes.connection +
    (shared ? 0 : load.views * bytes.view);
  const sentBytesPerS =
    messages * (bytes.message + Math.min(load.documentBytes, PATCH_BYTES)) +
    load.queries * 20 * (load.documentBytes + 100);
  const byConnections = Math.max(1, Math.ceil(load.devices / CONNECTIONS));
  const byCpu =
    own + divided <= BUSY_AT_MOST ? 1 : own < BUSY_AT_MOST ? Math.ceil(divided / (BUSY_AT_MOST - own)) : Infinity;
  const nodes = Math.max(byCpu, byConnections);
  const tooMany = nodes === Infinity || (nodes > 1 && load.commits > LOG_COMMITS);
  return {
    cpu: own + divided,
    memoryBytes,
    diskBytes,
    sentBytesPerS,
    messages,
    nodes: tooMany ? undefined : nodes,
    because: tooMany ? 'commits' : nodes === 1 ? 'one suffices' : byCpu >= byConnections ? 'processor' : 'connections',
  };
}
