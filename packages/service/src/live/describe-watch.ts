import type { ConnectionWatch, WatchTarget } from '@uproar/protocol';
import type { Subscription } from './live-view.js';

/** What is watched, and how far behind it is. */
export function describeWatch(target: WatchTarget, { lag }: Subscription): ConnectionWatch {
  return { ...target, commitsBehind: lag.commits, behindMs: lag.ms };
}
