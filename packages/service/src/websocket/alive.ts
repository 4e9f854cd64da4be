import { formatTime } from '@uproar/core';
import { frameText } from './frame.js';

/** How often it is looked whether a node has become stale, in milliseconds. */
const LOOK_MS = 500;

/** A node of a cluster, which may lack what others have written. */
interface MayBeStale {
  readonly staleSinceMs: number | undefined;
}

/** What a node says of its staleness: nothing while it is up to date. */
export function staleness(cluster: MayBeStale | undefined): { staleSince?: string } {
  const sinceMs = cluster?.staleSinceMs;
  return sinceMs === undefined ? {} : { staleSince: formatTime(sinceMs) };
}

/**
 * The notification `alive`, in a frame.
 *
 * @param nextBytes the size of the message that follows it, if that is so large that it may take a while
 */
export function frameAlive(seq: number, cluster: MayBeStale | undefined, nextBytes?: number): Buffer {
  const params = { seq, ...staleness(cluster), nextBytes };
  return frameText(JSON.stringify({ jsonrpc: '2.0', method: 'alive', params }));
}

/** Calls when a node becomes stale, and when it is up to date again. Returns a stop function. */
export function tellStaleness(cluster: MayBeStale, changed: () => void): () => void {
  let wasStale = false;
  const timer = setInterval(() => {
    const isStale = cluster.staleSinceMs !== undefined;
    if (isStale === wasStale) return;
    wasStale = isStale;
    changed();
  }, LOOK_MS).unref();
  return () => clearInterval(timer);
}
