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

/** Changes that a rate is worked out from at most. */
const MOST_CHANGES = 500;
const LOOKED_BACK_MS = 60_000;

/** Changes per second in the last minute, or over the last {@link MOST_CHANGES} changes if there were more. */
export async function changesPerSecond(
  store: Store,
  collection: string,
  where: string | undefined,
  nowMs: number,
): Promise<number> {
  const { events } = await readJournal(store, { collection, where }, 'now', MOST_CHANGES);
  const recent = events.filter(({ time }) => nowMs - Date.parse(time) <= LOOKED_BACK_MS);
  if (recent.length < MOST_CHANGES) return recent.length / (LOOKED_BACK_MS / 1000);
  const span = Math.max(1000, nowMs - Date.parse(recent.at(-1)!.time));
  return recent.length / (span / 1000);
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
