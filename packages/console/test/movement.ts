import type { Store } from '@uproar/client';
import { Random } from '../../../test/random.js';

/** How often something changes in each collection, in milliseconds. */
const INTERVAL_MS = 300;
/** How often it is looked which collections and documents there are. */
const LOOK_EVERY = 8;
const DOCUMENTS_OF_EACH = 25;

/**
 * Has each collection of a store change several times a second, as in a store that is in use: documents are written again with
 * the data they have, so that their versions, their times and the list of collections move; in a collection of its own the
 * data moves, too.
 *
 * @param still collections that stay as they are, for tests that count changes
 * @returns ends it
 */
export function keepMoving(store: Store, still: readonly string[] = []): () => Promise<void> {
  const random = new Random(17);
  let ended = false;
  const running = (async () => {
    let documents: { collection: string; ids: string[] }[] = [];
    for (let turn = 0; !ended; turn++) {
      // While the store restarts, reads fail and writes wait.
      try {
        if (turn % LOOK_EVERY === 0) documents = await look(store, still);
        const writes = documents.map(({ collection, ids }) => ({ collection, id: random.pick(ids) }));
        const done = writes.map(({ collection, id }) => store.collection(collection).merge(id, {}));
        done.push(
          store
            .collection('zz-weather')
            .put(`w-${turn % 20}`, { celsius: turn % 40, gust: { knots: turn % 7 }, calm: turn % 2 === 0 }),
        );
        await Promise.allSettled(done);
      } catch {
        // It is tried again the next time.
      }
      await new Promise((resolve) => setTimeout(resolve, INTERVAL_MS));
    }
  })();
  return async () => {
    ended = true;
    await running;
  };
}

async function look(store: Store, still: readonly string[]): Promise<{ collection: string; ids: string[] }[]> {
  const { documents } = await store.fetch<{ documents: { id: string }[] }>('/v1/collections');
  const moving = documents.map(({ id }) => id).filter((id) => id !== 'files' && !still.includes(id));
  const found = await Promise.all(
    moving.map(async (collection) => {
      const listing = await store.collection(collection).list({ limit: DOCUMENTS_OF_EACH });
      return { collection, ids: listing.documents.map(({ id }) => id) };
    }),
  );
  return found.filter(({ ids }) => ids.length > 0);
}

/** How fast a person types, in milliseconds for a character. */
export const TYPING_MS = 90;
