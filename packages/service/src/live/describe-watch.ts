import type { ConnectionWatch, WatchTarget } from '@uproar/protocol';
import type { Subscription } from './subscription.js';

/** The target of a watch and its lag. */
export function describeWatch(target: WatchTarget, { lag }: Subscription): ConnectionWatch {
  return { ...target, commitsBehind: lag.commits, behindMs: lag.ms };
}
