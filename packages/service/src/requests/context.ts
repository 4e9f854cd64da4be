import type { Cluster } from '../cluster/cluster.js';
import type { ByteBudget } from '../limits/byte-budget.js';
import type { BudgetLimits } from '../limits/limits.js';
import type { OpenSockets } from '../limits/open-sockets.js';
import type { ConnectionRegistry } from '../connections/connection-registry.js';
import type { Identities } from '../identity/identities.js';
import type { RateLimiter, SignInThrottle } from '../identity/rate-limits.js';
import type { SignedLinks } from '../identity/signed-links.js';
import type { Tickets } from '../identity/tickets.js';
import type { CommitLimits, Committer } from '../commit/committer.js';
import type { LiveViews } from '../live/live-views.js';
import type { AccessLimits } from '../settings.js';
import type { Sampler } from '../metrics/sampler.js';
import type { SlowQueries } from '../metrics/slow-queries.js';
import type { MetricsRecorder } from '../metrics/metrics-recorder.js';
import type { Erasures } from '../erasure/erasures.js';
import type { HookRunner } from '../hooks/hook-runner.js';
import type { Hooks } from '../hooks/hooks.js';
import type { Presence } from '../presence/presence.js';
import type { Schemas } from '../schemas/schemas.js';
import type { Store } from '../store/index.js';
import type { UsageMeter } from '../usage/usage-meter.js';
import type { UsageRecorder } from '../usage/usage-recorder.js';
import type { OriginPolicy } from './origin-policy.js';

/** What the routes and the live connections work with. */
export interface Context {
  store: Store;
  /** Undefined for a store on one node. */
  cluster: Cluster | undefined;
  schemas: Schemas;
  presence: Presence;
  hooks: Hooks;
  hookRunner: HookRunner;
  erasures: Erasures;
  views: LiveViews;
  identities: Identities;
  connections: ConnectionRegistry;
  rates: RateLimiter;
  signIns: SignInThrottle;
  tickets: Tickets;
  links: SignedLinks;
  committer: Committer;
  commitLimits: CommitLimits;
  accessLimits: AccessLimits;
  originPolicy: OriginPolicy;
  recorder: MetricsRecorder;
  usage: UsageMeter;
  usageRecorder: UsageRecorder;
  sampler: Sampler;
  slowQueries: SlowQueries;
  maxUnreadBytes: number;
  budgets: BudgetLimits;
  bytes: ByteBudget;
  sockets: OpenSockets;
  heartbeatMs: number;
  /** True once the service is stopping. */
  draining: boolean;
  /** Called with internal errors that have no request to log them. */
  onFault: (error: unknown) => void;
  /** Called when the service stops. */
  closing: Set<() => void>;
}
