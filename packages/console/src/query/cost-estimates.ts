import type { Store } from '@uproar/client';
import { formatText, parseText, splitName, type Node } from '@uproar/core';
import { readJournal } from '../shared/live-journal';

/** The part of a condition that an index with these fields can narrow by; undefined if it cannot narrow it. */
export function conditionForIndex(where: string, indexFields: string): string | undefined {
  const names = indexFields.split(',').map((term) => JSON.stringify(splitName(term.trim().replace(/^-/, ''))));
  const covered = (node: Node): boolean => {
    if (node.kind === 'property') return names.includes(JSON.stringify(node.path));
    if (node.kind === 'call') return node.args.every(covered) && node.args.some(mentionsField);
    return node.kind === 'literal' || node.kind === 'array' || node.kind === 'date' || node.kind === 'timestamp';
  };
  const parsed = parseText(where);
  const parts = parsed.kind === 'call' && parsed.name === 'and' ? parsed.args : [parsed];
  const kept = parts.filter(covered);
  if (kept.length === 0) return undefined;
  return formatText(kept.length === 1 ? kept[0]! : { kind: 'call', name: 'and', args: kept });
}

function mentionsField(node: Node): boolean {
  if (node.kind === 'property') return true;
  return node.kind === 'call' && node.args.some(mentionsField);
}

/** Counts the documents that match a condition. */
export async function countMatching(store: Store, collection: string, where: string | undefined): Promise<number> {
  const { documents } = await store
    .collection(collection)
    .list({ summary: 'count()', ...(where === undefined ? {} : { where }) });
  return Number(documents[0]?.data['count()'] ?? 0);
}

/** Commits that rates are worked out from at most. */
const MOST_COMMITS = 1000;
const LOOKED_BACK_MS = 60_000;

/**
 * Changes per second of a collection, for each condition: in the last minute, or over the last {@link MOST_COMMITS} commits of
 * the store if there were more.
 *
 * @param conditions undefined: all changes of the collection
 */
export async function changesPerSecond(
  store: Store,
  collection: string,
  conditions: readonly (string | undefined)[],
): Promise<number[]> {
  // A page holds commits of all collections. The oldest of them says over which time the others are counted.
  const all = await readJournal(store, {}, 'now', MOST_COMMITS);
  const now = Date.now();
  const oldest = Date.parse(all.events.at(-1)?.time ?? '');
  const spanMs = all.more && oldest > now - LOOKED_BACK_MS ? Math.max(1000, now - oldest) : LOOKED_BACK_MS;
  const rates: number[] = [];
  for (const where of conditions) {
    const { events } = await readJournal(store, { collection, where }, 'now', MOST_COMMITS);
    const recent = events.filter(({ time }) => now - Date.parse(time) <= spanMs);
    rates.push(recent.length / (spanMs / 1000));
  }
  return rates;
}

/**
 * The condition that says which changes a watch is tested against: undefined for all of the collection.
 *
 * @returns nothing if the requirements are too many to be a condition
 */
export function conditionForTests(requirements: readonly string[]): { where: string | undefined } | undefined {
  if (requirements.length === 0) return { where: undefined };
  const where = requirements.map((one) => `(${one})`).join(' OR ');
  try {
    parseText(where);
    return { where };
  } catch {
    return undefined;
  }
}
