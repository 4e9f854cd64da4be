import type { Document } from '@uproar/client';
import { fieldChanges, type FieldChange } from '@uproar/core';

/** How a document differs between two results. */
export interface ResultDifference {
  id: string;
  kind: 'only in A' | 'only in B' | 'different';
  a: Document | undefined;
  b: Document | undefined;
  changes: FieldChange[];
}

/** Differences in the order of the second result. Documents that only the first one has come last. */
export function compareResults(
  a: ReadonlyMap<string, Document>,
  b: ReadonlyMap<string, Document>,
): { differences: ResultDifference[]; same: number } {
  const differences: ResultDifference[] = [];
  let same = 0;
  for (const [id, there] of b) {
    const here = a.get(id);
    const changes = here ? fieldChanges(here.data, there.data) : [];
    if (!here) differences.push({ id, kind: 'only in B', a: undefined, b: there, changes });
    else if (changes.length === 0) same++;
    else differences.push({ id, kind: 'different', a: here, b: there, changes });
  }
  for (const [id, here] of a) {
    if (!b.has(id)) differences.push({ id, kind: 'only in A', a: here, b: undefined, changes: [] });
  }
  return { differences, same };
}
