import type { Store } from '@uproar/client';
import { deepEqual } from '@uproar/core';
import type { PlannedWrite } from '../actions/planned-write';
import { readEach } from '../actions/read-each';

/** Documents that can be put back at once. */
export const MOST_PUT_BACK = 5000;

/**
 * Plans the writes that put documents back to their states at a seq. Documents that are the same now are left out. Documents
 * that did not exist then are deleted.
 *
 * @throws {ProblemError} if the journal does not reach back so far
 */
export async function planPutBack(
  store: Store,
  collection: string,
  ids: readonly string[],
  seq: number,
): Promise<PlannedWrite[]> {
  const documents = store.collection(collection);
  const states = await readEach(ids, (id) => Promise.all([documents.get(id, { at: seq }), documents.get(id)]));
  return ids.flatMap((id, index): PlannedWrite[] => {
    const [then, now] = states[index]!;
    const same = then && now ? deepEqual(then.data, now.data) : then === now;
    return same ? [] : [{ id, now, to: then?.data }];
  });
}

/** What planned writes do, in words: `2 are changed, 1 is created again`. */
export function describePlan(planned: readonly PlannedWrite[]): string {
  const counts = [
    [planned.filter(({ now, to }) => now && to).length, 'changed'],
    [planned.filter(({ now }) => !now).length, 'created again'],
    [planned.filter(({ to }) => !to).length, 'deleted'],
  ] as const;
  return counts
    .filter(([count]) => count > 0)
    .map(([count, what]) => `${count.toLocaleString()} ${count === 1 ? 'is' : 'are'} ${what}`)
    .join(', ');
}
