import type { Document } from '@uproar/client';

/** The number of documents that are searched, from a place on. */
const MAX_LOOKED_FOR = 30;

/**
 * Where the first document that is still there, from a place on, stands now; as the place that the first one of them would have.
 * Undefined where none of the next thirty is left.
 */
export function findAgain(now: readonly Document[], before: readonly Document[], at: number): number | undefined {
  for (let place = at; place < Math.min(before.length, at + MAX_LOOKED_FOR); place++) {
    const { id } = before[place]!;
    for (let distance = 0; distance < now.length; distance++) {
      const [above, below] = [place - distance, place + distance];
      if (above < 0 && below >= now.length) break;
      if (now[above]?.id === id) return above - (place - at);
      if (now[below]?.id === id) return below - (place - at);
    }
  }
  return undefined;
}
