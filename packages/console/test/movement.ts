import type { TestService } from '../../../test/service.js';

/** How often something changes. */
const INTERVAL_MS = 120;

/**
 * Has something in a store change several times a second, as in a store that is in use: the documents of a collection of its own, and
 * with them the list of collections, which every page of the console shows.
 *
 * @returns ends it
 */
export function keepMoving(service: TestService): () => Promise<void> {
  let turn = 0;
  let writing: Promise<unknown> = Promise.resolve();
  const timer = setInterval(() => {
    turn++;
    const write = () =>
      service.request('PUT', `/v1/data/zz-weather/w-${turn % 20}`, { celsius: turn % 40, gust: { knots: turn % 7 } });
    // While the store is restarted nothing can be written.
    writing = writing.then(write).catch(() => undefined);
  }, INTERVAL_MS);
  return async () => {
    clearInterval(timer);
    await writing;
  };
}

/** How fast a person types, in milliseconds for a character. */
export const TYPING_MS = 90;
