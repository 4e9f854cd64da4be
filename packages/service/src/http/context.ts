import type { Keys } from '../identity/keys.js';
import type { Tickets } from '../identity/tickets.js';
import type { CommitLimits, Committer } from '../commit/committer.js';
import type { LiveViews } from '../live/live-views.js';
import type { Store } from '../store/index.js';

/** What the routes and the live connections work with. */
export interface Context {
  store: Store;
  views: LiveViews;
  keys: Keys;
  tickets: Tickets;
  committer: Committer;
  commitLimits: CommitLimits;
  maxUnreadBytes: number;
  heartbeatMs: number;
  /** Everything that must be told when the service stops. */
  closing: Set<() => void>;
}
