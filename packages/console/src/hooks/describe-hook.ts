import type { HookInfo } from '@uproar/protocol';
import { formatDuration } from '@uproar/core';

/** The collection and the kinds of change that a hook delivers. */
export function describeKinds({ collection, kinds }: HookInfo): string {
  return kinds.length === 3 ? `${collection}: all changes` : `${collection}: ${kinds.join(', ')}`;
}

/** What a hook does now, and how that looks. */
export function describeState({ paused, failing }: HookInfo, nowMs = Date.now()): { text: string; look: string } {
  if (paused) return { text: 'paused', look: 'behind' };
  if (!failing) return { text: 'delivering', look: 'live' };
  return { text: `failing for ${formatDuration(nowMs - Date.parse(failing.since))}`, look: 'bad' };
}
