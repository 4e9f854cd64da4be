import type { Store } from '@uproar/client';
import { deepEqual } from '@uproar/core';
import type { PlannedWrite } from '../actions/planned-write';
import type { Past } from './use-past';

/** Documents that can be put back at once. */
export const MOST_PUT_BACK = 5000;
/** Documents that are read at the same time. */
const READ_AT_ONCE = 16;

/** What putting documents back to the moment of a past writes. Those that are as they were are left out. */
export async function planPutBack(
  store: Store,
  collection: string,
  past: Past,
  ids: readonly string[],
): Promise<PlannedWrite[]> {
  const planned: PlannedWrite[] = [];
  for (let at = 0; at < ids.length; at += READ_AT_ONCE) {
    const some = ids.slice(at, at + READ_AT_ONCE);
    const present = await Promise.all(some.map((id) => store.collection(collection).get(id)));
    for (const [index, id] of some.entries()) {
      const [then, now] = [past.at(id), present[index]];
      const same = then && now ? deepEqual(then.data, now.data) : then === now;
      if (!same) planned.push({ id, now, to: then?.data });
    }
  }
  return planned;
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
