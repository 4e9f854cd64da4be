import { randomBytes } from 'node:crypto';
import { HEARTBEAT_MS } from '@uproar/protocol';
import type { Cluster } from './cluster/cluster.js';
import { Committer, DEFAULT_COMMIT_LIMITS } from './commit/committer.js';
import { ConnectionRegistry } from './connections/connection-registry.js';
import { Erasures } from './erasure/erasures.js';
import { HookRunner } from './hooks/hook-runner.js';
import { Hooks } from './hooks/hooks.js';
import { ReachableAddresses } from './hooks/reachable-addresses.js';
import { Sender } from './hooks/send.js';
import { Identities } from './identity/identities.js';
import { RateLimiter, SignInThrottle } from './identity/rate-limits.js';
import { SignedLinks } from './identity/signed-links.js';
import { Tickets } from './identity/tickets.js';
import { ByteBudget } from './limits/byte-budget.js';
import { DEFAULT_BUDGETS } from './limits/limits.js';
import { LiveWork } from './limits/live-work.js';
import { OpenSockets } from './limits/open-sockets.js';
import { LiveViews } from './live/live-views.js';
import { MetricsRecorder } from './metrics/metrics-recorder.js';
import { Sampler } from './metrics/sampler.js';
import type { MetricsSources } from './metrics/sources.js';
import { SlowQueries } from './metrics/slow-queries.js';
import type { Tracing } from './metrics/tracing.js';
import type { Context } from './requests/context.js';
import { OriginPolicy } from './requests/origin-policy.js';
import { Presence } from './presence/presence.js';
import { Schemas } from './schemas/schemas.js';
import {
  DEFAULT_ACCESS_LIMITS,
  DEFAULT_GIVE_UP_MS,
  DEFAULT_MAX_UNREAD_BYTES,
  DEFAULT_PRESENCE_GRACE_MS,
  type ServiceOptions,
} from './settings.js';
import { RECORD_FORMAT } from './state/records.js';
import { openStore, type Store } from './store/index.js';
import { UsageMeter } from './usage/usage-meter.js';
import { UsageRecorder } from './usage/usage-recorder.js';

/**
 * Opens the store and creates the parts of the service.
 *
 * @throws {StoreError} when the store cannot be opened
 */
export function createContext(options: ServiceOptions, tracing: Tracing, cluster?: Cluster): Context {
  const budgets = { ...DEFAULT_BUDGETS, ...options.budgets };
  const store = openStoreFor(options, budgets.waitMs, cluster);
  const identities = connectIdentities(store, options, cluster);
  const schemas = new Schemas(store);
  const addresses = new ReachableAddresses(options.hooks?.networks);
  const hooks = new Hooks(store, addresses);
  const presence = new Presence({
    store,
    node: cluster?.node ?? randomBytes(6).toString('hex'),
    graceMs: options.presenceGraceMs ?? DEFAULT_PRESENCE_GRACE_MS,
    isInCharge: () => !cluster || cluster.isInCharge('maintenance'),
    isRunning: (node) => cluster?.isRunning(node) ?? false,
  });
  const recorder = new MetricsRecorder();
  const usage = new UsageMeter();
  const bytes = new ByteBudget(budgets);
  const liveWork = new LiveWork(budgets);
  const views = new LiveViews(store, recorder, { bytes, liveWork, watchBytes: budgets.watchBytes }, usage);
  const connections = new ConnectionRegistry(identities, options.connectionLimits);
  const sockets = new OpenSockets(budgets, bytes, () => connections.limits);
  sockets.onEnd = (address, holder, problem) =>
    identities.audit.add({ event: 'refused', identity: holder, address, detail: { problem, to: 'connection' } });
  const sources = {
    store,
    views,
    connections,
    totals: recorder.totals,
    takeCounts: () => recorder.take(),
    bytes,
    sockets,
    hooks: () => countHooks(hooks),
  };
  recorder.metrics.attach(sources);
  const commitLimits = { ...DEFAULT_COMMIT_LIMITS, ...options.commitLimits };
  const mayUseLatest = () => !cluster || cluster.everyNodeReads(RECORD_FORMAT);
  store.backups.onReady = ({ id, author, seq, sizeBytes, sha256 }) => {
    if (!mayUseLatest()) return;
    const record = { id, author, seq: seq!, sizeBytes: sizeBytes!, sha256: sha256! };
    store.log.propose({ kind: 'backup-made', timeMs: Date.now(), ...record }).catch((error) => context.onFault(error));
  };
  const context: Context = {
    store,
    cluster,
    schemas,
    presence,
    hooks,
    hookRunner: new HookRunner({
      store,
      hooks,
      sender: new Sender(addresses),
      policy: () => identities.policy,
      isInCharge: () => !cluster || cluster.isInCharge('hooks'),
      giveUpMs: options.hooks?.giveUpMs ?? DEFAULT_GIVE_UP_MS,
    }),
    views,
    identities,
    connections,
    rates: new RateLimiter(options.rateLimits),
    signIns: new SignInThrottle(),
    originPolicy: new OriginPolicy(
      options.allowedOrigins,
      options.openToTheNetwork,
      () => identities.openUntilMs() !== undefined,
    ),
    tickets: new Tickets(cluster),
    links: new SignedLinks(store.reads),
    committer: new Committer(store, recorder, usage, tracing, commitLimits),
    recorder,
    usage,
    usageRecorder: new UsageRecorder(store.log, usage, options.usage, mayUseLatest),
    erasures: new Erasures({ store, nodes: () => nodesOf(store, cluster), isPossible: mayUseLatest }),
    slowQueries: new SlowQueries(),
    sampler: new Sampler(sources),
    draining: false,
    onFault: () => undefined,
    commitLimits,
    accessLimits: { ...DEFAULT_ACCESS_LIMITS, ...options.accessLimits },
    budgets,
    bytes,
    sockets,
    maxUnreadBytes: options.maxUnreadBytes ?? DEFAULT_MAX_UNREAD_BYTES,
    heartbeatMs: options.heartbeatMs ?? HEARTBEAT_MS,
    closing: new Set(),
  };
  store.log.onListenerFault = (error) => context.onFault(error);
  return context;
}

/** The nodes, and up to which place of the log erasures have left nothing in their files. */
function nodesOf(store: Store, cluster: Cluster | undefined): { address: string; rewritten: number }[] {
  const here = store.rewrites.place;
  if (!cluster) return [{ address: 'this node', rewritten: here }];
  return cluster.status().nodes.map(({ node, address, rewritten = 0 }) => ({
    address,
    rewritten: node === cluster.node ? here : rewritten,
  }));
}

/** What the metrics say about hooks. */
function countHooks(hooks: Hooks): ReturnType<MetricsSources['hooks']> {
  const described = hooks.list().map((hook) => hooks.describe(hook));
  return {
    waiting: Object.fromEntries(described.map(({ name, waiting }) => [name, waiting])),
    failing: Object.fromEntries(
      described.map(({ name, paused, failing }) => [name, Number(Boolean(paused ?? failing))]),
    ),
  };
}

function openStoreFor(options: ServiceOptions, waitMs: number, cluster: Cluster | undefined): Store {
  return openStore(options.directory, {
    limits: options.documentLimits,
    waiting: options.waiting,
    waitMs,
    resultBytes: options.commitLimits?.resultBytes,
    journal: options.journal,
    writeAheadBytes: options.writeAheadBytes,
    scanIncludes: options.scanIncludes ?? false,
    files: options.files,
    ...(cluster ? { log: (parts) => cluster.openLog(parts), isInCharge: () => cluster.isInCharge('maintenance') } : {}),
  });
}

/** Authenticates the callers of a store. */
function connectIdentities(store: Store, options: ServiceOptions, cluster: Cluster | undefined): Identities {
  return new Identities({
    store,
    adminKey: options.adminKey,
    nodeKey: cluster?.founding.secret,
    tokens: options.tokens,
    accounts: options.accounts ?? 'closed',
  });
}
