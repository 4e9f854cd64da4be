import { expect } from 'chai';
import { isDeepStrictEqual } from 'node:util';
import type { JsonObject, Store } from '@uproar/client';
import { until } from '../../../test/service.js';

/** Waits until the store has this data for a document: the console shows it before. */
export async function expectStored(store: Store, address: string, data: JsonObject): Promise<void> {
  const [collection, id] = address.split('/') as [string, string];
  const read = async () => (await store.collection(collection).get(id))?.data;
  await until(`${address} is stored`, async () => isDeepStrictEqual(await read(), data)).catch(() => undefined);
  expect(await read(), address).to.deep.equal(data);
}
